// A run, as it goes on and as its entry keeps it: its steps, its tasks with their logs, and its plan beforehand.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { type Entry, type Guard, type Schemas, api, got } from "../shared/api";
import { Wrong } from "../shared/parts";
import { count, short, span, taskTitle, value } from "../shared/words";

type EntryObject = Schemas["EntryObject"];

const stateGlyph: Record<EntryObject["state"], string> = {
  waiting: "○",
  applying: "◐",
  settling: "◐",
  ready: "●",
  removing: "◐",
  removed: "●",
  refused: "▲",
  "not tried": "○",
  "not ready": "▲",
};

const taskWords: Partial<Record<EntryObject["state"], string>> = {
  applying: "starting",
  settling: "running",
  ready: "done",
  "not ready": "not done",
};

/** The parts of a run in their order: each step, what is removed after them, and tasks for a failure. */
function parts(all: EntryObject[]): { title: string; objects: EntryObject[] }[] {
  const out: { title: string; objects: EntryObject[] }[] = [];
  for (const o of all) {
    const removed = o.state === "removing" || o.state === "removed";
    const title =
      o.task === "failed"
        ? "when it has failed"
        : removed
          ? "removed"
          : `step ${o.step < 0 ? `−${-o.step}` : o.step}`;
    const last = out.at(-1);
    if (last?.title === title) last.objects.push(o);
    else out.push({ title, objects: [o] });
  }
  return out;
}

export function EntryObjects({
  of,
  ward,
  number,
  moved,
}: {
  of: EntryObject[];
  ward: string;
  number: number;
  /** What the run changed, where that is known. */
  moved?: Schemas["MovedObject"][];
}) {
  const all = parts(of);
  return (
    <div className="space-y-2">
      {all.map((p, i) => (
        <section key={`${p.title} ${i}`} aria-label={p.title}>
          {all.length > 1 && (
            <h3 className="mb-1 flex items-center gap-2.5 text-xs text-soft">
              {p.title}
              <span aria-hidden className="h-px flex-1 bg-rule" />
            </h3>
          )}
          <ul className="space-y-1">
            {p.objects.map((o) => (
              <EntryLine
                key={o.key}
                o={o}
                ward={ward}
                number={number}
                moved={moved?.find((m) => m.key === o.key)}
              />
            ))}
          </ul>
        </section>
      ))}
    </div>
  );
}

function EntryLine({
  o,
  ward,
  number,
  moved,
}: {
  o: EntryObject;
  ward: string;
  number: number;
  moved?: Schemas["MovedObject"];
}) {
  const [open, setOpen] = useState(false);
  const [all, setAll] = useState(false);
  const fields = moved?.change === "changed" ? moved.fields : [];
  const took = o.task && o.began && o.ended ? Date.parse(o.ended) - Date.parse(o.began) : 0;
  const words = (o.task && taskWords[o.state]) ?? o.state;
  const goes = !!o.task && !o.log && (o.state === "applying" || o.state === "settling");
  return (
    <li>
      <div className="flex items-baseline gap-2">
        <span
          aria-hidden
          className={o.state === "refused" || o.state === "not ready" ? "text-failing" : "text-soft"}
        >
          {stateGlyph[o.state]}
        </span>
        <span className="shrink-0">
          {o.name} <span className="text-soft">{o.task ? taskTitle(o.task) : o.kind}</span>
        </span>
        <span className="min-w-0 text-sm text-soft">
          {words}
          {took >= 1000 && ` in ${span(took)}`}
          {moved?.change === "added" && ", new"}
          {o.replaced && ", deleted and made again"}
          {o.reason && `: ${o.reason}`}
        </span>
        {(o.log || goes) && (
          <button
            className="text-sm underline decoration-dotted underline-offset-2 hover:text-ink"
            aria-expanded={open}
            onClick={() => setOpen(!open)}
          >
            {open ? `Hide the log of ${o.name}` : goes ? `Follow the log of ${o.name}` : `Log of ${o.name}`}
          </button>
        )}
      </div>
      {fields.length > 0 && (
        <div className="mt-1 mb-2 ml-6">
          <Lines of={all ? fields : fields.slice(0, 8)} />
          {fields.length > 8 && !all && (
            <button className="text-sm text-soft underline hover:text-ink" onClick={() => setAll(true)}>
              {fields.length - 8} more fields
            </button>
          )}
        </div>
      )}
      {open &&
        (o.log ? (
          <TaskLog ward={ward} number={number} of={o} />
        ) : (
          <FollowedLog ward={ward} number={number} of={o} />
        ))}
    </li>
  );
}

function TaskLog({ ward, number, of }: { ward: string; number: number; of: EntryObject }) {
  const log = useQuery({
    queryKey: ["log", ward, number, of.key],
    queryFn: () =>
      got(
        api.GET("/wards/{ward}/entries/{number}/log", {
          params: { path: { ward, number }, query: { key: of.key } },
          parseAs: "text",
        }),
      ),
  });
  if (log.error) return <Wrong error={log.error} />;
  return <LogText>{log.data ?? "Reading…"}</LogText>;
}

function LogText({ children }: { children: string }) {
  return (
    <pre
      tabIndex={0}
      className="my-1.5 ml-6 max-h-72 overflow-auto rounded border border-rule bg-paper px-3 py-2 font-mono text-[13px]"
    >
      {children}
    </pre>
  );
}

// longest is how much of a log that is followed is shown, in characters from its end.
const longest = 200_000;

/** What a task writes, as it comes, until it has ended. */
function FollowedLog({ ward, number, of }: { ward: string; number: number; of: EntryObject }) {
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState<Error>();
  useEffect(() => {
    const ends = new AbortController();
    const follow = async () => {
      const r = await api.GET("/wards/{ward}/entries/{number}/log", {
        params: { path: { ward, number }, query: { key: of.key, follow: true } },
        parseAs: "stream",
        signal: ends.signal,
      });
      if (r.error) throw new Error(r.error.detail ?? r.error.title);
      const reader = (r.data as ReadableStream<Uint8Array>).getReader();
      const words = new TextDecoder();
      for (;;) {
        const { done, value } = await reader.read();
        if (done) return;
        const more = words.decode(value, { stream: true });
        setText((t) => (t + more).slice(-longest));
      }
    };
    follow().catch((e) => {
      if (!ends.signal.aborted) setWrong(e instanceof Error ? e : new Error(String(e)));
    });
    return () => ends.abort();
  }, [ward, number, of.key]);
  if (wrong) return <Wrong error={wrong} />;
  return <LogText>{text || "It has written nothing yet."}</LogText>;
}

export function Progress({ run, now, says }: { run: Entry; now: number; says: string }) {
  const left = run.deadline ? Date.parse(run.deadline) - now : 0;
  const failed = says.includes(" failed; its tasks for that run");
  return (
    <section
      aria-label="The run that goes on"
      className="mt-4 rounded-lg border border-rule bg-behind-sheet px-4 py-3"
    >
      <h2 className="mb-2 font-bold">
        {run.kind} #{run.number} to {short(run.revision)} {run.revision?.subject} by {run.by} goes on for{" "}
        {span(now - Date.parse(run.started))}
        {left > 0 && (
          <span className="font-normal text-soft">
            , {failed ? "its tasks have" : "gives up in"} {span(left)}
          </span>
        )}
      </h2>
      <EntryObjects of={run.objects ?? []} ward={run.ward} number={run.number} />
    </section>
  );
}

type Pending = Schemas["PendingObject"];

const changeWords: Record<Pending["change"], string> = {
  create: "new",
  update: "changed",
  remove: "",
  keep: "not declared any more",
  run: "",
};

/** What a run would do, in its order, field by field. */
export function Plan({ of, none = "Nothing to do: it is as declared." }: { of: Pending[]; none?: string }) {
  const groups: { title: string; objects: Pending[] }[] = [];
  for (const o of of) {
    const step = o.step ?? 0;
    const title =
      o.change === "remove"
        ? "then remove"
        : o.change === "keep"
          ? "and leave"
          : `step ${step < 0 ? `−${-step}` : step}`;
    const last = groups.at(-1);
    if (last?.title === title) last.objects.push(o);
    else groups.push({ title, objects: [o] });
  }
  if (of.length === 0) return <p>{none}</p>;
  return (
    <div className="space-y-3">
      {groups.map((g, i) => (
        <section key={`${g.title} ${i}`}>
          <h3 className="mb-1 flex items-center gap-2.5 text-xs text-soft">
            {g.title}
            <span aria-hidden className="h-px flex-1 bg-rule" />
          </h3>
          <ul className="space-y-1.5">
            {g.objects.map((o) => (
              <li key={o.key}>
                <p>
                  <strong>{o.name}</strong> <span className="text-soft">{o.kind}</span>{" "}
                  <span className="text-sm text-soft">
                    {o.task
                      ? taskTitle(o.task)
                      : o.replaced
                        ? "deleted and made again: it can't be changed in place"
                        : o.already_there
                          ? "already there, to be adopted"
                          : changeWords[o.change]}
                  </span>
                </p>
                {o.refused && <Wrong error={new Error(`The API server would refuse it: ${o.refused}`)} />}
                {o.change === "create" && <Whole of={o.fields} />}
                {o.change === "remove" && <Whole of={o.fields} gone />}
                {!["create", "remove", "keep"].includes(o.change) && <Lines of={o.fields} />}
              </li>
            ))}
          </ul>
        </section>
      ))}
    </div>
  );
}

/** Differences as compact lines: path, from, to. */
export function Lines({ of }: { of: Schemas["Difference"][] }) {
  return (
    <ul className="ml-4 text-sm">
      {of.map((d) => (
        <li key={d.path} className="flex flex-wrap items-baseline gap-x-2">
          <span className="font-mono text-[13px] break-all">{d.path}</span>
          <span className="min-w-0 break-words text-soft">
            {d.change === "added" ? "nothing" : value(d.from)}
          </span>
          <span aria-hidden className="text-soft">
            →
          </span>
          <strong className="min-w-0 break-words whitespace-pre-wrap">
            {d.change === "removed" ? "nothing" : value(d.to)}
          </strong>
        </li>
      ))}
    </ul>
  );
}

/** What an object is made of, or was: whole, folded where it is long. */
export function Whole({ of, gone }: { of: Schemas["Difference"][]; gone?: boolean }) {
  if (of.length === 0) return null;
  return (
    <details className="ml-4 text-sm" open={of.length <= 6}>
      <summary className="cursor-pointer text-soft">
        {count(of.length, "field")}
        {gone && ", all of it goes"}
      </summary>
      <ul>
        {of.map((d) => (
          <li key={d.path} className="flex flex-wrap items-baseline gap-x-2">
            <span className="font-mono text-[13px] break-all">{d.path}</span>
            <span className="min-w-0 break-words whitespace-pre-wrap">{value(gone ? d.from : d.to)}</span>
          </li>
        ))}
      </ul>
    </details>
  );
}

/** Guards that stop a run, each to be allowed by itself. */
export function Guards({
  of,
  allowed,
  allow,
}: {
  of: Guard[];
  allowed: string[];
  allow: (names: string[]) => void;
}) {
  if (of.length === 0) return null;
  return (
    <fieldset className="rounded-md border border-failing px-4 py-3">
      <legend className="px-1 text-sm font-bold">
        {of.some((g) => g.mend) ? "Nothing is applied before this is mended" : "A guard asks first"}
      </legend>
      <ul className="space-y-1.5">
        {of.map((g) =>
          g.mend ? (
            <li key={g.name + g.text}>
              {g.text}. <span className="font-mono text-sm">{g.mend}</span>
            </li>
          ) : (
            <li key={g.name}>
              <label className="flex items-baseline gap-2.5">
                <input
                  type="checkbox"
                  checked={allowed.includes(g.name)}
                  onChange={(e) =>
                    allow(e.target.checked ? [...allowed, g.name] : allowed.filter((n) => n !== g.name))
                  }
                />
                <span>
                  Allow <strong className="font-mono text-sm">{g.name}</strong>: {g.text}
                  {g.instead && <span className="block text-sm text-soft">{g.instead}</span>}
                </span>
              </label>
            </li>
          ),
        )}
      </ul>
    </fieldset>
  );
}
