// A ward's page: a plain sentence, what can be done about it, its objects, the chosen one closely, and the logbook.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Tabs } from "radix-ui";
import { Fragment, useEffect, useState } from "react";
import { useParams } from "react-router";
import {
  type Difference,
  type Entry,
  Problem,
  type Schemas,
  type Ward,
  type WardDetail,
  type WardObject,
  api,
  got,
} from "./api";
import { Button, Health, Modal, Panel, Standing, Wrong, useNow } from "./parts";
import { ScaleChoice, WatchLine, marks, useScale } from "./watchline";
import { ago, bad, clock, count, entryTitle, headline, short, span, value, whoWhen } from "./words";

export function WardPage() {
  const { id = "" } = useParams();
  const now = useNow();
  const [chosen, choose] = useState<string>();
  const detail = useQuery({
    queryKey: ["ward", id],
    queryFn: () => got(api.GET("/wards/{ward}", { params: { path: { ward: id } } })),
    refetchInterval: 30_000,
  });
  useEffect(() => {
    document.title = `${id} · Vigila`;
  }, [id]);
  if (detail.error && !detail.data) return <Wrong error={detail.error} />;
  if (!detail.data) return <p className="text-soft">Reading {id}…</p>;
  const d = detail.data;
  const object = d.outline.find((o) => o.key === chosen) ?? mostTelling(d.outline);
  return (
    <>
      <Head detail={d} now={now} />
      <Strip ward={d.ward} now={now} />
      {d.ward.run && <Progress run={d.ward.run} now={now} />}
      <div className="mt-4 grid items-start gap-6 lg:grid-cols-[minmax(0,23rem)_minmax(0,1fr)_minmax(0,17rem)]">
        <Outline detail={d} chosen={object?.key} choose={choose} />
        {object ? <Closely ward={d.ward} object={object} now={now} /> : <span />}
        <Logbook ward={d.ward} now={now} />
      </div>
      <Declaration detail={d} now={now} />
    </>
  );
}

/** The object to show first: what differs, else what is failing, else the last workload. */
function mostTelling(all: WardObject[]): WardObject | undefined {
  return (
    all.find((o) => o.gone || (o.fields?.length ?? 0) > 0) ??
    all.find((o) => o.health === "failing") ??
    all.find((o) => o.change) ??
    all.find((o) => (o.below?.length ?? 0) > 0) ??
    all[0]
  );
}

function useAct(ward: Ward, done: () => void = () => {}) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (f: () => Promise<unknown>) => f(),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["ward", ward.id] });
      void client.invalidateQueries({ queryKey: ["entries", ward.id] });
      done();
    },
  });
}

const path = (w: Ward) => ({ params: { path: { ward: w.id } } });
const start = (w: Ward, body: Schemas["StartRun"]) =>
  got(api.POST("/wards/{ward}/runs", { ...path(w), body }));

function Head({ detail, now }: { detail: WardDetail; now: number }) {
  const w = detail.ward;
  const [dialog, open] = useState<"rollback" | "hold" | "sync">();
  const act = useAct(w);
  const guards = act.error instanceof Problem && act.error.guards.length > 0 ? act.error.guards : undefined;
  const rev = w.applied ?? w.revision;
  const sync = (allow: string[] = []) =>
    act.mutate(async () => {
      await got(api.POST("/wards/{ward}/look", path(w)));
      return start(w, { kind: "sync", allow });
    });
  return (
    <div className="flex flex-wrap items-start justify-between gap-x-6 gap-y-3">
      <div className="min-w-96 flex-1 basis-0">
        <p>
          {w.name} <span className="text-soft">@{w.cluster}</span>
          {w.owner && ` · kept by ${w.owner}`} · <span className="font-mono text-sm">{w.repo}</span> {w.ref}
          {w.path && ` · ${w.path}`}
        </p>
        <h1 className="mt-1 text-2xl leading-tight font-bold text-pretty" data-says>
          {headline(w, now)}
        </h1>
        <p className="mt-1 text-soft">
          {rev && (
            <>
              At <span className="font-mono text-sm">{short(rev)}</span> {rev.subject}.{" "}
            </>
          )}
          {w.todo && (w.todo.endsWith(".") ? w.todo : `${w.todo}.`)}
        </p>
        <p className="mt-0.5 text-sm text-soft">
          <Standing is={w.standing} word />
          {w.pending > 0 &&
            `${w.standing === "behind" ? ", " : " · behind by "}${count(w.pending, "object")}`}
          {w.drifted_fields > 0 && w.standing === "drifted" && `, ${count(w.drifted_fields, "field")}`}
          {w.contested > 0 && `, ${count(w.contested, "field")}`} ·{" "}
          <Health is={w.health} reason={w.health_reason} /> ·{" "}
          <AsOf of={w.repository} what="repository" now={now} /> ·{" "}
          <AsOf of={w.live} what="cluster" now={now} live />
        </p>
      </div>
      <div className="flex gap-2.5">
        {w.run ? (
          <Button
            strong
            tip="Stop after the calls that are on their way; what was applied stays"
            onClick={() => act.mutate(() => got(api.DELETE("/wards/{ward}/runs/current", path(w))))}
          >
            Stop
          </Button>
        ) : (
          <Primary ward={w} busy={act.isPending} sync={() => sync()} />
        )}
        <Button
          tip="Look at the repository now instead of at the next interval"
          disabled={act.isPending}
          onClick={() => act.mutate(() => got(api.POST("/wards/{ward}/look", path(w))))}
        >
          Look now
        </Button>
        <Button
          tip="Go back to what an entry of the logbook left, and hold the ward there"
          onClick={() => open("rollback")}
        >
          Roll back
        </Button>
        {w.hold ? (
          <Button
            tip="Let automatic runs go on"
            onClick={() => act.mutate(() => got(api.DELETE("/wards/{ward}/hold", path(w))))}
          >
            Release
          </Button>
        ) : (
          <Button tip="Stop automatic runs on this ward" onClick={() => open("hold")}>
            Hold
          </Button>
        )}
      </div>
      {act.error && !guards && (
        <div className="w-full">
          <Wrong error={act.error} />
        </div>
      )}
      <Modal
        open={!!guards}
        close={() => act.reset()}
        title="A guard asks first"
        about="This run would do what is hard to undo:"
      >
        <ul className="space-y-2">
          {guards?.map((g) => (
            <li key={g.name}>
              <strong className="font-mono text-sm">{g.name}</strong> {g.text}
            </li>
          ))}
        </ul>
        <div className="mt-5 flex justify-end gap-2">
          <Button onClick={() => act.reset()}>Leave it</Button>
          <Button strong onClick={() => sync(guards?.map((g) => g.name))}>
            Sync, and allow {guards?.length === 1 ? "it" : "them"}
          </Button>
        </div>
      </Modal>
      <RollBack ward={w} now={now} open={dialog === "rollback"} close={() => open(undefined)} />
      <Hold ward={w} open={dialog === "hold"} close={() => open(undefined)} />
    </div>
  );
}

/** The button for what most likely comes next. */
function Primary({ ward: w, busy, sync }: { ward: Ward; busy: boolean; sync: () => void }) {
  const fields = w.drifted_fields;
  const label = w.rejected
    ? `Try ${short(w.revision)} again`
    : w.pending > 0
      ? `Sync ${count(w.pending, "object")}`
      : fields > 0
        ? `Restore ${count(fields, "field")}`
        : "Sync";
  const tip =
    w.pending > 0
      ? "Make the cluster as the repository declares, and put back what has drifted"
      : fields > 0
        ? "Put back what others changed"
        : "Look at the repository, and apply what differs";
  return (
    <Button strong={w.pending + fields > 0 && !w.rejected} tip={tip} disabled={busy} onClick={sync}>
      {label}
    </Button>
  );
}

function AsOf({ of, what, now, live }: { of: Schemas["AsOf"]; what: string; now: number; live?: boolean }) {
  if (!of.known) {
    return (
      <span title={of.problem} className="text-ink">
        ? {what} can't be read{of.at && `, last ${ago(of.at, now)}`}
      </span>
    );
  }
  if (live) return <span title="Every change is seen as it happens">{what} watched live</span>;
  return (
    <span>
      {what} read {ago(of.at, now)}
      {of.next && `, next look in ${span(Date.parse(of.next) - now)}`}
    </span>
  );
}

function Strip({ ward, now }: { ward: Ward; now: number }) {
  const [scale] = useScale();
  return (
    <div className="mt-4">
      <WatchLine ward={{ ...ward, needs_you: true }} now={now} height={16} />
      <div className="flex items-center justify-between text-xs text-soft">
        {marks(scale).map((m, i) => (
          <span key={m} className="flex items-center gap-2">
            {m} {i === 0 && <ScaleChoice />}
          </span>
        ))}
      </div>
    </div>
  );
}

const stateGlyph: Record<Schemas["EntryObject"]["state"], string> = {
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

function EntryObjects({ of }: { of: Schemas["EntryObject"][] }) {
  return (
    <ul className="space-y-1">
      {of.map((o) => (
        <li key={`${o.kind}/${o.namespace}/${o.name}`} className="flex items-baseline gap-2">
          <span
            aria-hidden
            className={o.state === "refused" || o.state === "not ready" ? "text-failing" : "text-soft"}
          >
            {stateGlyph[o.state]}
          </span>
          <span className="shrink-0">
            {o.name} <span className="text-soft">{o.kind}</span>
          </span>
          <span className="text-sm text-soft">
            {o.state}
            {o.reason && `: ${o.reason}`}
          </span>
        </li>
      ))}
    </ul>
  );
}

function Progress({ run, now }: { run: Entry; now: number }) {
  const left = run.deadline ? Date.parse(run.deadline) - now : 0;
  return (
    <section
      aria-label="The run that goes on"
      className="mt-4 rounded-lg border border-rule bg-behind-sheet px-4 py-3"
    >
      <h2 className="mb-2 font-bold">
        {run.kind} #{run.number} to {short(run.revision)} {run.revision?.subject} by {run.by} goes on for{" "}
        {span(now - Date.parse(run.started))}
        {left > 0 && <span className="font-normal text-soft">, gives up in {span(left)}</span>}
      </h2>
      <EntryObjects of={run.objects ?? []} />
    </section>
  );
}

function Outline({
  detail,
  chosen,
  choose,
}: {
  detail: WardDetail;
  chosen?: string;
  choose: (key: string) => void;
}) {
  const w = detail.ward;
  const side = [w.drifted > 0 && `${w.drifted} drifted`, w.pending > 0 && `${w.pending} behind`]
    .filter(Boolean)
    .join(", ");
  return (
    <Panel title={count(detail.outline.length, "object")} side={side}>
      <ul className="py-1.5">
        {detail.outline.map((o, i) => (
          <Fragment key={o.key}>
            {o.step !== detail.outline[i - 1]?.step && (
              <li className="mt-1 flex items-center gap-2.5 px-3.5 text-xs text-soft">
                step {o.step < 0 ? `−${-o.step}` : o.step}
                <span aria-hidden className="h-px flex-1 bg-rule" />
              </li>
            )}
            <li>
              <button
                onClick={() => choose(o.key)}
                aria-pressed={o.key === chosen}
                className={`flex w-full items-baseline gap-2.5 px-3.5 py-1.5 text-left ${o.key === chosen ? (o.standing === "behind" ? "bg-behind-sheet" : "bg-lamp-sheet") : "hover:bg-paper"}`}
              >
                <span className="w-5 text-center">
                  <Standing is={o.standing} />
                </span>
                <span
                  className={`min-w-0 flex-1 truncate ${o.key === chosen ? "font-bold" : ""}`}
                  title={`${o.kind}/${o.name}`}
                >
                  {o.name} <span className="font-normal text-soft">{o.kind}</span>
                </span>
                <span className="text-soft">
                  {o.gone ? (
                    "deleted"
                  ) : o.change ? (
                    `to ${o.change}`
                  ) : (
                    <Health is={o.health} reason={o.reason} />
                  )}
                </span>
              </button>
              {(o.below ?? []).length > 0 && (
                <ul>
                  {fold(o.below ?? []).map((b) => (
                    <li
                      key={b.name}
                      className="flex items-baseline gap-2.5 py-0.5 pr-3.5 text-sm"
                      style={{ paddingLeft: `${2.2 + b.depth}rem` }}
                    >
                      <span className="min-w-0 flex-1 truncate" title={b.name}>
                        {b.name} <span className="text-soft">{b.kind}</span>
                      </span>
                      <span className="text-soft">
                        <Health is={b.health} reason={b.reason} />
                      </span>
                    </li>
                  ))}
                </ul>
              )}
            </li>
          </Fragment>
        ))}
      </ul>
    </Panel>
  );
}

/** Pods of one ReplicaSet that do alike are one line. */
function fold(below: Schemas["Below"][]): Schemas["Below"][] {
  const out: (Schemas["Below"] & { more: number })[] = [];
  for (const b of below) {
    const last = out.at(-1);
    if (
      last &&
      b.kind === "Pod" &&
      last.kind === "Pod" &&
      last.health === b.health &&
      last.depth === b.depth
    ) {
      last.more++;
    } else {
      out.push({ ...b, more: 0 });
    }
  }
  return out.map((b) => ({ ...b, name: b.more > 0 ? `${b.name} and ${b.more} more` : b.name }));
}

const tabs = ["Difference", "Live", "Declared", "Events", "Logs"] as const;

function Closely({ ward, object: o, now }: { ward: Ward; object: WardObject; now: number }) {
  const detail = useQuery({
    queryKey: ["ward", ward.id, "object", o.key],
    queryFn: () =>
      got(api.GET("/wards/{ward}/object", { params: { path: { ward: ward.id }, query: { key: o.key } } })),
    retry: false,
  });
  return (
    <Tabs.Root defaultValue="Difference">
      <Panel
        title={`${o.kind}/${o.name}`}
        side={
          <Tabs.List aria-label="Look at the object" className="flex gap-0.5">
            {tabs.map((t) => (
              <Tabs.Trigger
                key={t}
                value={t}
                className="rounded px-2 py-0.5 text-soft hover:text-ink data-[state=active]:bg-rule data-[state=active]:text-ink"
              >
                {t}
              </Tabs.Trigger>
            ))}
          </Tabs.List>
        }
      >
        <div className="min-h-64 px-3.5 py-3">
          {o.health === "failing" && o.reason && (
            <p className="mb-3 border-b border-rule pb-3">
              <span aria-hidden className="mr-1.5 text-failing">
                ▲
              </span>
              {o.reason}
            </p>
          )}
          <Tabs.Content value="Difference">
            <Differences ward={ward} object={o} now={now} />
          </Tabs.Content>
          <Tabs.Content value="Live">
            <Yaml text={detail.data?.live} none="It is not in the cluster." />
          </Tabs.Content>
          <Tabs.Content value="Declared">
            <p className="mb-2 text-sm text-soft">
              {o.file ? `${o.file}, line ${o.line}` : "Made by Vigila: the ward's own namespace"}
            </p>
            <Yaml text={detail.data?.declared} none="It is not declared any more." />
          </Tabs.Content>
          <Tabs.Content value="Events">
            <Events of={detail.data?.events} now={now} />
          </Tabs.Content>
          <Tabs.Content value="Logs">
            <Logs ward={ward} object={o} pods={detail.data?.pods} />
          </Tabs.Content>
          {detail.error && <Wrong error={detail.error} />}
        </div>
      </Panel>
    </Tabs.Root>
  );
}

function Differences({ ward, object: o, now }: { ward: Ward; object: WardObject; now: number }) {
  const drifted = o.fields ?? [];
  const diff = useQuery({
    queryKey: ["ward", ward.id, "diff", ward.revision?.id, ward.applied?.id],
    queryFn: () => got(api.GET("/wards/{ward}/diff", { params: { path: { ward: ward.id } } })),
    enabled: !!o.change,
  });
  const pending = diff.data?.pending.find((p) => p.key === o.key);
  return (
    <div className="space-y-4">
      {o.gone && <p>Somebody deleted it from the cluster. A sync makes it again.</p>}
      {drifted.length > 0 && (
        <section>
          <h3 className="mb-2 text-sm font-bold text-soft">The cluster moved</h3>
          <ul className="space-y-4">
            {drifted.map((d) => (
              <Field key={d.path} d={d} from="applied" to="live" toneClass="bg-lamp-sheet">
                <p className="mt-1 text-sm text-soft">
                  Changed by <strong className="text-ink">{whoWhen(d, now)}</strong>
                  {d.when && ` (${clock(d.when)})`}.
                  {d.contested && " It undid the restore three times, so Vigila stopped restoring it."} To
                  leave this field to others, add to the ward file:
                </p>
                <code className="mt-1 block font-mono text-xs break-all">
                  leave: [{`{of: ${o.kind}/${o.name}, fields: [${d.pointer}]}`}]
                </code>
              </Field>
            ))}
          </ul>
        </section>
      )}
      {o.change && (
        <section>
          <h3 className="mb-2 text-sm font-bold text-soft">
            The repository moved: a sync would {o.change} it
          </h3>
          {diff.isLoading && <p className="text-soft">Trying it out on the API server…</p>}
          {diff.error && <Wrong error={diff.error} />}
          {pending?.refused && (
            <Wrong error={new Error(`The API server would refuse it: ${pending.refused}`)} />
          )}
          {pending?.already_there && (
            <p className="mb-2">It is already there, and would be adopted with these changes.</p>
          )}
          <ul className="space-y-3">
            {pending?.fields.map((d) => (
              <Field key={d.path} d={d} from="live" to="declared" toneClass="bg-behind-sheet" />
            ))}
          </ul>
          {pending && pending.change === "update" && pending.fields.length === 0 && !pending.refused && (
            <p>No field changes.</p>
          )}
        </section>
      )}
      {o.owned_fields !== undefined && o.owned_fields > 0 && !o.gone && (
        <p className={drifted.length > 0 || o.change ? "border-t border-rule pt-3 text-soft" : "text-soft"}>
          {drifted.length > 0
            ? `${count(Math.max(0, o.owned_fields - drifted.length), "other field")} Vigila applied are as it left them.`
            : `All ${count(o.owned_fields, "field")} Vigila applied are as it left them.`}
        </p>
      )}
    </div>
  );
}

function Field({
  d,
  from,
  to,
  toneClass,
  children,
}: {
  d: Difference;
  from: string;
  to: string;
  toneClass: string;
  children?: React.ReactNode;
}) {
  const row = (name: string, v: unknown, tone: string, gone: boolean) => (
    <div className="mt-1 flex items-baseline">
      <span className="w-20 shrink-0 text-sm text-soft">{name}</span>
      <span
        className={`min-w-0 rounded px-2 py-0.5 break-words ${gone ? "text-soft italic" : `font-bold ${tone}`}`}
      >
        {gone ? "nothing" : value(v)}
      </span>
    </div>
  );
  return (
    <li>
      <p className="font-mono text-sm break-all">{d.path}</p>
      {row(from, d.from, "bg-rule", d.change === "added")}
      {row(to, d.to, toneClass, d.change === "removed")}
      {children}
    </li>
  );
}

function Yaml({ text, none }: { text?: string; none: string }) {
  if (!text) return <p className="text-soft">{none}</p>;
  return <pre className="max-h-[32rem] overflow-auto font-mono text-[13px] leading-normal">{text}</pre>;
}

function Events({ of, now }: { of?: Schemas["ClusterEvent"][]; now: number }) {
  if (!of) return <p className="text-soft">Reading…</p>;
  if (of.length === 0) return <p className="text-soft">The cluster tells of no events about it.</p>;
  return (
    <ul className="space-y-2">
      {of.map((e, i) => (
        <li key={i} className="grid grid-cols-[5rem_1fr] gap-2">
          <span className="text-sm text-soft">{ago(e.at, now)}</span>
          <span className="min-w-0">
            {e.warning && (
              <span aria-label="warning" className="mr-1 text-failing">
                ▲
              </span>
            )}
            <strong>{e.reason}</strong> {e.text}{" "}
            <span className="text-sm text-soft">
              {e.about}
              {(e.count ?? 1) > 1 && `, ${e.count} times`}
            </span>
          </span>
        </li>
      ))}
    </ul>
  );
}

function Logs({ ward, object, pods }: { ward: Ward; object: WardObject; pods?: Schemas["Pod"][] }) {
  const [name, choose] = useState<string>();
  const [previous, setPrevious] = useState(false);
  const pod = pods?.find((p) => p.name === name) ?? pods?.find((p) => p.health === "failing") ?? pods?.[0];
  const log = useQuery({
    queryKey: ["ward", ward.id, "log", pod?.name, previous],
    enabled: !!pod,
    queryFn: () =>
      got(
        api.GET("/wards/{ward}/logs", {
          params: {
            path: { ward: ward.id },
            query: { key: object.key, pod: pod?.name ?? "", container: pod?.containers[0], previous },
          },
          parseAs: "text",
        }),
      ),
  });
  if (!pods) return <p className="text-soft">Reading…</p>;
  if (!pod) return <p className="text-soft">No Pods run below it.</p>;
  return (
    <>
      <div className="mb-3 flex items-center gap-3 text-sm">
        <select
          aria-label="Pod"
          value={pod.name}
          onChange={(e) => choose(e.target.value)}
          className="min-w-0 rounded border border-rule bg-paper px-2 py-1"
        >
          {pods.map((p) => (
            <option key={p.name} value={p.name}>
              {p.name}, {p.health}
              {p.restarts > 0 && `, restarted ${p.restarts} times`}
            </option>
          ))}
        </select>
        {pod.restarts > 0 && (
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={previous} onChange={(e) => setPrevious(e.target.checked)} />{" "}
            before its last restart
          </label>
        )}
      </div>
      {log.error ? (
        <Wrong error={log.error} />
      ) : (
        <Yaml text={log.data} none={log.isLoading ? "Reading…" : "It has written nothing."} />
      )}
    </>
  );
}

const ENTRIES = 12;

function useEntries(id: string, limit: number) {
  return useQuery({
    queryKey: ["entries", id, limit],
    queryFn: () =>
      got(api.GET("/wards/{ward}/entries", { params: { path: { ward: id }, query: { limit } } })),
    placeholderData: (old) => old,
  });
}

function Logbook({ ward, now }: { ward: Ward; now: number }) {
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
  const why = e.kind === "hold" || e.kind === "release" || e.kind === "rollback" ? e.why : "";
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
  return (
    <Modal open close={close} title={e ? `${ward.id} #${number} ${entryTitle(e)}` : `#${number}`}>
      {entry.error && <Wrong error={entry.error} />}
      {e && (
        <>
          {e.reason && <p className="mb-3">{e.reason}</p>}
          <dl className="mb-4 grid grid-cols-[6rem_1fr] gap-y-1 text-sm">
            <dt className="text-soft">by</dt>
            <dd>{e.by}</dd>
            <dt className="text-soft">started</dt>
            <dd>
              {new Date(e.started).toLocaleString()}, {ago(e.started, now)}
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
          <EntryObjects of={e.objects ?? []} />
        </>
      )}
    </Modal>
  );
}

function RollBack({ ward, now, open, close }: { ward: Ward; now: number; open: boolean; close: () => void }) {
  const entries = useEntries(ward.id, 100);
  const [to, setTo] = useState<number>();
  const [why, setWhy] = useState("");
  const act = useAct(ward, close);
  const guards = act.error instanceof Problem ? act.error.guards.map((g) => g.name) : [];
  const choices = (entries.data?.items ?? []).filter((e) => e.has_snapshot && e.outcome === "done");
  return (
    <Modal
      open={open}
      close={close}
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
      {act.error && <Wrong error={act.error} />}
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={close}>Leave it</Button>
        <Button
          strong
          disabled={!to || act.isPending}
          onClick={() =>
            act.mutate(() => start(ward, { kind: "rollback", to_entry: to, why, allow: guards }))
          }
        >
          {guards.length > 0
            ? `Roll back, and allow ${guards.join(", ")}`
            : to
              ? `Roll back to #${to}`
              : "Roll back"}
        </Button>
      </div>
    </Modal>
  );
}

function Hold({ ward, open, close }: { ward: Ward; open: boolean; close: () => void }) {
  const [why, setWhy] = useState("");
  const [hours, setHours] = useState(0);
  const act = useAct(ward, close);
  return (
    <Modal
      open={open}
      close={close}
      title={`Hold ${ward.id}`}
      about="No automatic sync or restore runs until it is released."
    >
      <Reason value={why} set={setWhy} />
      <label className="mt-3 block text-sm">
        <span className="text-soft">Until</span>
        <select
          value={hours}
          onChange={(e) => setHours(Number(e.target.value))}
          className="mt-1 block w-full rounded-md border border-rule bg-paper px-2.5 py-1.5"
        >
          <option value={0}>it is released</option>
          <option value={1}>in an hour</option>
          <option value={4}>in 4 hours</option>
          <option value={24}>tomorrow, this time</option>
        </select>
      </label>
      {act.error && <Wrong error={act.error} />}
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={close}>Leave it</Button>
        <Button
          strong
          disabled={act.isPending}
          onClick={() =>
            act.mutate(() =>
              got(
                api.PUT("/wards/{ward}/hold", {
                  ...path(ward),
                  body: {
                    reason: why,
                    until: hours ? new Date(Date.now() + hours * 3_600_000).toISOString() : undefined,
                  },
                }),
              ),
            )
          }
        >
          Hold
        </Button>
      </div>
    </Modal>
  );
}

function Reason({ value, set }: { value: string; set: (s: string) => void }) {
  return (
    <label className="mt-3 block text-sm">
      <span className="text-soft">Why, for whoever looks next</span>
      <input
        value={value}
        onChange={(e) => set(e.target.value)}
        className="mt-1 block w-full rounded-md border border-rule bg-paper px-2.5 py-1.5"
      />
    </label>
  );
}

function Declaration({ detail, now }: { detail: WardDetail; now: number }) {
  const w = detail.ward;
  return (
    <div className="mt-6">
      <Panel
        title="Declaration"
        side={
          w.revision && (
            <span className="font-normal text-soft">
              newest {short(w.revision)}, {ago(w.revision.at, now)}
            </span>
          )
        }
      >
        <div className="grid gap-6 px-3.5 py-3 lg:grid-cols-[minmax(0,1fr)_minmax(0,20rem)]">
          <pre className="overflow-auto font-mono text-[13px]">{detail.file.trim()}</pre>
          <div className="space-y-2 text-sm">
            {w.about && <p>{w.about}</p>}
            <p className="text-soft">
              {w.auto_sync ? "A new revision is synced by itself." : "A person syncs."}{" "}
              {w.restore_drift
                ? "What others change is put back."
                : "What others change is reported, not put back."}
            </p>
            {Object.entries(w.links ?? {}).map(([name, url]) => (
              <p key={name}>
                <a href={/^https?:/.test(url) ? url : undefined} rel="noreferrer" className="underline">
                  {name}
                </a>
              </p>
            ))}
          </div>
        </div>
      </Panel>
    </div>
  );
}
