// The logbook of a ward: its entries, one closely, two compared, and going back to one.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { start, useAct } from "../shared/act";
import { type Entry, Problem, type Ward, api, got } from "../shared/api";
import { Button, Modal, Panel, Reason, Wrong } from "../shared/parts";
import { CanaryOf } from "./canary";
import { EntryObjects, Guards, Lines, Plan, Whole } from "./run";
import { ago, bad, entryTitle, moment, short, span } from "../shared/words";

const ENTRIES = 12;

export function useEntries(id: string, limit: number) {
  return useQuery({
    queryKey: ["entries", id, limit],
    queryFn: () =>
      got(api.GET("/wards/{ward}/entries", { params: { path: { ward: id }, query: { limit } } })),
    placeholderData: (old) => old,
  });
}

export function Logbook({ ward, now }: { ward: Ward; now: number }) {
  const [limit, setLimit] = useState(ENTRIES);
  const [open, setOpen] = useState<number>();
  const entries = useEntries(ward.id, limit);
  return (
    <Panel
      title="Logbook"
      side={entries.data && <span className="font-normal text-soft">{entries.data.total}</span>}
    >
      {entries.data?.total === 0 && <p className="px-3.5 py-3 text-soft">No entries yet.</p>}
      <ol className="py-2">
        {entries.data?.items.map((e) => (
          <li key={e.number} className="relative">
            <span
              aria-hidden
              className={`absolute top-3.5 left-4 size-2.5 rounded-full border-2 bg-sheet ${bad(e) || e.kind === "rollback" ? "border-failing" : "border-soft"}`}
            />
            <button
              onClick={() => setOpen(e.number)}
              className="w-full py-1.5 pr-3 pl-10 text-left hover:bg-paper"
            >
              <span className="font-bold">
                #{e.number} {entryTitle(e)}
              </span>
              <span className="line-clamp-2 text-sm text-soft" title={entryLine(e, now)}>
                {entryLine(e, now)}
              </span>
            </button>
          </li>
        ))}
      </ol>
      {entries.data && entries.data.total > entries.data.items.length && (
        <button
          className="w-full border-t border-rule py-2 text-sm text-soft hover:text-ink"
          onClick={() => setLimit(Math.min(1000, limit + 50))}
        >
          {entries.data.total - entries.data.items.length} older
        </button>
      )}
      {open !== undefined && (
        <EntryDialog ward={ward} number={open} now={now} close={() => setOpen(undefined)} />
      )}
    </Panel>
  );
}

/** What an entry says below its title. */
export function entryLine(e: Entry, now: number): string {
  const took = e.ended ? Date.parse(e.ended) - Date.parse(e.started) : 0;
  const parts = [
    e.to_entry ? `to #${e.to_entry}` : (short(e.revision) && `${short(e.revision)}`) + ` by ${e.by}`,
    ago(e.started, now),
    took >= 1000 ? span(took) : "",
  ].filter(Boolean);
  const why = [
    "hold",
    "release",
    "rollback",
    "reject",
    "accept",
    "drift",
    "remove",
    "restore",
    "secret",
  ].includes(e.kind)
    ? e.why
    : "";
  return parts.join(", ") + (why ? `: ${why}` : "");
}

export function EntryDialog({
  ward,
  number,
  now,
  close,
}: {
  ward: { id: string };
  number: number;
  now: number;
  close: () => void;
}) {
  const entry = useQuery({
    queryKey: ["entries", ward.id, "one", number],
    queryFn: () =>
      got(api.GET("/wards/{ward}/entries/{number}", { params: { path: { ward: ward.id, number } } })),
  });
  const e = entry.data;
  const moved = useQuery({
    queryKey: ["compare", ward.id, "of", number, e?.outcome],
    enabled: !!e?.has_snapshot && (e.kind === "sync" || e.kind === "rollback"),
    retry: false,
    queryFn: () =>
      got(api.GET("/wards/{ward}/compare", { params: { path: { ward: ward.id }, query: { to: number } } })),
  });
  return (
    <Modal open close={close} wide title={e ? `${ward.id} #${number} ${entryTitle(e)}` : `#${number}`}>
      {entry.error && <Wrong error={entry.error} />}
      {e && (
        <>
          {e.reason && <p className="mb-3">{e.reason}</p>}
          <dl className="mb-4 grid grid-cols-[6rem_1fr] gap-y-1 text-sm">
            <dt className="text-soft">by</dt>
            <dd>{e.by}</dd>
            <dt className="text-soft">started</dt>
            <dd>
              {moment(e.started)}, {ago(e.started, now)}
              {e.ended && `, took ${span(Date.parse(e.ended) - Date.parse(e.started))}`}
            </dd>
            {e.why && (
              <>
                <dt className="text-soft">why</dt>
                <dd>{e.why}</dd>
              </>
            )}
            {e.revision && (
              <>
                <dt className="text-soft">revision</dt>
                <dd>
                  <span className="font-mono">{short(e.revision)}</span> {e.revision.subject}
                </dd>
              </>
            )}
          </dl>
          {e.canary && <CanaryOf ward={e.ward} entry={e.number} live={e.outcome === "running"} now={now} />}
          <EntryObjects of={e.objects ?? []} ward={e.ward} number={e.number} moved={moved.data?.objects} />
          {e.has_snapshot && <Compare entry={e} />}
        </>
      )}
    </Modal>
  );
}

/** What an entry declares against another, or against what the repository declares now. */
function Compare({ entry: e }: { entry: Entry }) {
  const [to, setTo] = useState<number>();
  const others = useEntries(e.ward, 200);
  const choices = (others.data?.items ?? []).filter((x) => x.has_snapshot && x.number !== e.number);
  const diff = useQuery({
    queryKey: ["compare", e.ward, e.number, to],
    enabled: to !== undefined,
    retry: false,
    queryFn: () =>
      got(
        api.GET("/wards/{ward}/compare", {
          params: { path: { ward: e.ward }, query: { from: e.number, to: to || undefined } },
        }),
      ),
  });
  return (
    <section className="mt-5 border-t border-rule pt-4">
      <label className="flex items-center gap-2 text-sm">
        <span className="text-soft">Compare what #{e.number} declares with</span>
        <select
          aria-label="Compare with"
          value={to ?? ""}
          onChange={(x) => setTo(x.target.value === "" ? undefined : Number(x.target.value))}
          className="min-w-0 rounded border border-rule bg-paper px-2 py-1"
        >
          <option value="">…</option>
          <option value={0}>the repository now</option>
          {choices.map((x) => (
            <option key={x.number} value={x.number}>
              #{x.number} {x.kind} {short(x.revision)} {x.revision?.subject}
            </option>
          ))}
        </select>
      </label>
      {diff.isLoading && <p className="mt-3 text-soft">Comparing…</p>}
      {diff.error && <Wrong error={diff.error} />}
      {diff.data?.objects.length === 0 && <p className="mt-3">No differences: both declare the same.</p>}
      <ul className="mt-3 space-y-3">
        {diff.data?.objects.map((o) => (
          <li key={o.key}>
            <p>
              <strong>{o.name}</strong> <span className="text-soft">{o.kind}</span>{" "}
              <span className="text-sm text-soft">
                {o.change === "added" && "only there"}
                {o.change === "removed" && `only in #${e.number}`}
              </span>
            </p>
            {o.change === "changed" ? (
              <Lines of={o.fields} />
            ) : (
              <Whole of={o.fields} gone={o.change === "removed"} />
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

export function RollBack({
  ward,
  now,
  open,
  close,
}: {
  ward: Ward;
  now: number;
  open: boolean;
  close: () => void;
}) {
  const entries = useEntries(ward.id, 100);
  const [to, setTo] = useState<number>();
  const [why, setWhy] = useState("");
  const [tasks, setTasks] = useState(false);
  const [allowed, allow] = useState<string[]>([]);
  const act = useAct(ward, close);
  const plan = useQuery({
    queryKey: ["ward", ward.id, "preview", "rollback", to, tasks, ward.applied?.id],
    enabled: !!to,
    retry: false,
    queryFn: () =>
      got(
        api.POST("/wards/{ward}/preview", {
          params: { path: { ward: ward.id } },
          body: { kind: "rollback", to_entry: to, tasks },
        }),
      ),
  });
  const guards = act.error instanceof Problem ? act.error.guards : (plan.data?.guards ?? []);
  const choices = (entries.data?.items ?? []).filter((e) => e.has_snapshot && e.outcome === "done");
  return (
    <Modal
      open={open}
      close={close}
      wide
      title="Roll back"
      about="To the objects that an entry left, as Vigila keeps them. The ward is held there until it is released."
    >
      {choices.length === 0 && <p>There is no entry to go back to yet.</p>}
      <ul className="max-h-72 overflow-auto">
        {choices.map((e) => (
          <li key={e.number}>
            <label className="flex items-baseline gap-3 rounded px-2 py-1.5 hover:bg-paper">
              <input type="radio" name="entry" checked={to === e.number} onChange={() => setTo(e.number)} />
              <span>
                <strong>
                  #{e.number} {e.kind}
                </strong>{" "}
                <span className="font-mono text-sm">{short(e.revision)}</span> {e.revision?.subject}
                <span className="block text-sm text-soft">
                  {ago(e.started, now)}
                  {e.number === choices[0]?.number && ", what the cluster holds now"}
                </span>
              </span>
            </label>
          </li>
        ))}
      </ul>
      <Reason value={why} set={setWhy} />
      <label className="mt-3 flex items-baseline gap-2 text-sm">
        <input type="checkbox" checked={tasks} onChange={(e) => setTasks(e.target.checked)} />
        Run the tasks of that entry as well
      </label>
      {to && (
        <section aria-label={`What going back to #${to} does`} className="mt-4 border-t border-rule pt-4">
          {plan.isLoading && <p className="text-soft">Trying it out on the API server…</p>}
          {plan.error && <Wrong error={plan.error} />}
          {plan.data && (
            <Plan of={plan.data.objects} none="Nothing would change: the cluster is as it left it." />
          )}
        </section>
      )}
      {act.error && guards.length === 0 && <Wrong error={act.error} />}
      {guards.length > 0 && (
        <div className="mt-4">
          <Guards of={guards} allowed={allowed} allow={allow} />
        </div>
      )}
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={close}>Leave it</Button>
        <Button
          strong
          disabled={!to || plan.isLoading || act.isPending || guards.some((g) => !allowed.includes(g.name))}
          onClick={() =>
            act.mutate(() => start(ward, { kind: "rollback", to_entry: to, why, tasks, allow: allowed }))
          }
        >
          {to ? `Roll back to #${to}` : "Roll back"}
        </Button>
      </div>
    </Modal>
  );
}
