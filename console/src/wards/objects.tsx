// The objects of a ward: the outline, and the chosen one closely.
import { useQuery } from "@tanstack/react-query";
import { Tabs } from "radix-ui";
import { Fragment, useState } from "react";
import {
  type Difference,
  type Schemas,
  type Ward,
  type WardDetail,
  type WardObject,
  api,
  got,
} from "../shared/api";
import { start, useAct } from "../shared/act";
import { Button, Health, Panel, Standing, Wrong } from "../shared/parts";
import { ago, count, moment, taskTitle, value, whoWhen } from "../shared/words";

/** The object to show first: what differs, else what is failing, else the last workload. */
export function mostTelling(all: WardObject[]): WardObject | undefined {
  return (
    all.find((o) => o.gone || (o.fields?.length ?? 0) > 0) ??
    all.find((o) => o.health === "failing") ??
    all.find((o) => (o.additions?.length ?? 0) > 0) ??
    all.find((o) => o.change) ??
    all.find((o) => !o.task && (o.below?.length ?? 0) > 0) ??
    all[0]
  );
}

export function Outline({
  detail,
  chosen,
  choose,
}: {
  detail: WardDetail;
  chosen?: string;
  choose: (key: string) => void;
}) {
  const w = detail.ward;
  const tasks = detail.outline.filter((o) => o.task).length;
  const side = [
    w.drifted > 0 && `${w.drifted} drifted`,
    w.pending > 0 && `${w.pending} behind`,
    (w.added_fields ?? 0) > 0 && `+${w.added_fields} by others`,
  ]
    .filter(Boolean)
    .join(", ");
  return (
    <Panel
      title={[count(detail.outline.length - tasks, "object"), tasks > 0 && count(tasks, "task")]
        .filter(Boolean)
        .join(", ")}
      side={side}
    >
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
                className={`flex w-full items-baseline gap-2.5 px-3.5 py-1.5 text-left ${o.key === chosen ? chosenLook(o) : "hover:bg-paper"}`}
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
                  ) : o.task ? (
                    taskTitle(o.task) + (o.change ? ", to run" : "")
                  ) : o.change ? (
                    `to ${o.change}`
                  ) : (
                    <>
                      {(o.additions?.length ?? 0) > 0 && (
                        <span
                          className="mr-2 text-sm"
                          title={`Others added ${count(o.additions?.length ?? 0, "field")}`}
                        >
                          +{o.additions?.length}
                        </span>
                      )}
                      <Health is={o.health} reason={o.reason} />
                    </>
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

const chosenLook = (o: WardObject) =>
  o.standing === "behind" ? "bg-behind-sheet" : o.standing === "in step" ? "bg-rule" : "bg-lamp-sheet";

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

export function Closely({
  ward,
  object: o,
  stay,
  now,
}: {
  ward: Ward;
  object: WardObject;
  /** Somebody reads on: this object stays, whatever else becomes more telling. */
  stay: () => void;
  now: number;
}) {
  const [tab, setTab] = useState<string>("Difference");
  const detail = useQuery({
    queryKey: ["ward", ward.id, "object", o.key],
    queryFn: () =>
      got(api.GET("/wards/{ward}/object", { params: { path: { ward: ward.id }, query: { key: o.key } } })),
    retry: false,
    // An event of the cluster changes nothing of the ward, so nothing tells of it.
    refetchInterval: tab === "Events" || tab === "Logs" ? 5_000 : false,
  });
  return (
    <Tabs.Root
      value={tab}
      onValueChange={(t) => {
        setTab(t);
        stay();
      }}
    >
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
          {o.task && <TaskWords ward={ward} object={o} />}
          {o.health === "ready" && o.reason && (
            <p className="mb-3 border-b border-rule pb-3 text-soft">{o.reason}</p>
          )}
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
            <Yaml text={detail.data?.live_yaml} none="It is not in the cluster." />
          </Tabs.Content>
          <Tabs.Content value="Declared">
            <p className="mb-2 text-sm text-soft">
              {o.file ? `${o.file}, line ${o.line}` : "Made by Vigila: the ward's own namespace"}
            </p>
            <Yaml text={detail.data?.declared_yaml} none="It is not declared any more." />
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

/** When a task has its turn, and that it can have one more. */
function TaskWords({ ward, object: o }: { ward: Ward; object: WardObject }) {
  const act = useAct(ward);
  return (
    <div className="mb-3 border-b border-rule pb-3">
      <p className="flex items-baseline justify-between gap-3 text-soft">
        <span>
          {o.task === "before" && "A task: it runs in each sync, before the objects of its step."}
          {o.task === "after" && "A task: it runs in each sync, once the objects of its step are ready."}
          {o.task === "failed" && "A task: it runs when a sync has failed."} Its logs are in the logbook.
        </span>
        <Button
          changes="sync"
          tip="Run this task once more, as it is declared now, and nothing else"
          disabled={!!ward.run || act.isPending}
          onClick={() => act.mutate(() => start(ward, { kind: "sync", only: [`${o.kind}/${o.name}`] }))}
        >
          Run it now
        </Button>
      </p>
      {act.error && <Wrong error={act.error} />}
    </div>
  );
}

function Differences({ ward, object: o, now }: { ward: Ward; object: WardObject; now: number }) {
  const drifted = o.fields ?? [];
  const remade = drifted.filter((d) => d.change === "made again");
  const fields = drifted.filter((d) => d.change !== "made again");
  const added = o.additions ?? [];
  const diff = useQuery({
    queryKey: ["ward", ward.id, "diff", ward.revision?.id, ward.applied?.id],
    queryFn: () => got(api.GET("/wards/{ward}/diff", { params: { path: { ward: ward.id } } })),
    enabled: !!o.change && !o.task,
  });
  const pending = diff.data?.changes.find((p) => p.key === o.key);
  return (
    <div className="space-y-4">
      {o.restarted_by && o.restarted_at && (
        <p className="text-sm text-soft">
          Restarted by <strong className="text-ink">{o.restarted_by}</strong>, {ago(o.restarted_at, now)}.
        </p>
      )}
      {o.gone && <p>Somebody deleted it from the cluster. A restore makes it again.</p>}
      {drifted.length > 0 && (
        <section>
          <h3 className="mb-2 text-sm font-bold text-soft">The cluster moved</h3>
          <ul className="space-y-4">
            {remade.map((d) => (
              <li key="remade">
                <p>
                  The whole object was deleted, and made again by <strong>{whoWhen(d, now)}</strong>
                  {d.when && ` (${moment(d.when)})`}. A restore makes it the ward's again.
                </p>
              </li>
            ))}
            {fields.map((d) => (
              <Field key={d.path} d={d} from="applied" to="live" toneClass="bg-lamp-sheet">
                <p className="mt-1 text-sm text-soft">
                  Changed by <strong className="text-ink">{whoWhen(d, now)}</strong>
                  {d.when && ` (${moment(d.when)})`}.
                  {d.contested && " It undid the restore three times, so Vigila stopped restoring it."}
                  {d.pointer && " To leave this field to others, add to the ward file:"}
                </p>
                {d.pointer && (
                  <code className="mt-1 block font-mono text-xs break-all">
                    leave: [{`{of: ${o.kind}/${o.name}, fields: [${d.pointer}]}`}]
                  </code>
                )}
              </Field>
            ))}
          </ul>
        </section>
      )}
      {added.length > 0 && (
        <section>
          <h3 className="mb-2 text-sm font-bold text-soft">Others added</h3>
          <ul className="space-y-3">
            {added.map((d) => (
              <li key={d.path}>
                <p className="font-mono text-sm break-all">{d.path}</p>
                <p className="mt-1">
                  <span className="rounded bg-rule px-2 py-0.5 font-bold break-words">{value(d.to)}</span>{" "}
                  <span className="text-sm text-soft">by {whoWhen(d, now)}</span>
                </p>
              </li>
            ))}
          </ul>
          <p className="mt-2 text-sm text-soft">
            {ward.keep_additions === "remove"
              ? "This ward takes away what others add."
              : "It is no drift: the ward reports what others add, and leaves it."}
          </p>
        </section>
      )}
      {o.change && !o.task && (
        <section>
          <h3 className="mb-2 text-sm font-bold text-soft">
            The repository moved: a sync would {o.change} it
          </h3>
          {diff.isLoading && <p className="text-soft">Trying it out on the API server…</p>}
          {diff.error && <Wrong error={diff.error} />}
          {pending?.refused && (
            <Wrong error={new Error(`The API server would refuse it: ${pending.refused}`)} />
          )}
          {pending?.replaced && (
            <p className="mb-2">It can't be changed in place: it would be deleted and made again.</p>
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
      {o.scaler && (
        <p>
          Its replicas are left to <strong>{o.scaler}</strong>: they are never reset, and never drift.
        </p>
      )}
      {(o.left?.length ?? 0) > 0 && (
        <p className="text-soft">
          Left to others by the ward: <span className="font-mono text-sm">{o.left?.join(", ")}</span>
        </p>
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
  return (
    <pre tabIndex={0} className="max-h-[32rem] overflow-auto font-mono text-[13px] leading-normal">
      {text}
    </pre>
  );
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
            {e.is_warning && (
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
    refetchInterval: previous ? false : 5_000,
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
