// The lookout of a cluster: whether it is here, and what it is run with the first time.
import type { ReactNode } from "react";
import { type Schemas } from "../shared/api";
import { Panel, useNow } from "../shared/parts";
import { ago, clock } from "../shared/words";

/** Where a lookout is, in the few words of a list. */
export function LookoutState({ of: c }: { of: Schemas["Cluster"] }) {
  const now = useNow();
  const l = c.lookout;
  if (!l) return null;
  if (l.here)
    return (
      <>
        by lookout
        {(l.older || l.refused) && (
          <span className="block text-sm">
            <span aria-hidden className="mr-1.5 text-drifted">
              ◆
            </span>
            {l.refused ? "somebody was refused" : "older than the service"}
          </span>
        )}
      </>
    );
  if (l.waits_to_join)
    return (
      <span>
        <strong>? waits for its lookout</strong>
        {c.live.problem && <span className="block text-sm text-soft">{c.live.problem}</span>}
      </span>
    );
  return (
    <span>
      <strong>? its lookout is away</strong>
      {l.heard && `, last heard ${ago(l.heard, now)}`}
      <span className="block text-sm text-soft">It goes on by itself.</span>
    </span>
  );
}

export function LookoutPanel({ of: l }: { of: Schemas["Lookout"] }) {
  const now = useNow();
  const rows: [string, ReactNode][] = [];
  if (l.waits_to_join) rows.push(["Joins", l.until ? `with its token, until ${clock(l.until)}` : "not yet"]);
  else {
    rows.push(["Now", l.here ? `here, came ${ago(l.since ?? "", now)}` : "away; it goes on by itself"]);
    if (l.heard) rows.push(["Heard of", ago(l.heard, now)]);
    if (l.version)
      rows.push([
        "Version",
        `${l.version}${l.older ? ", older than the service and still understood: bring it up to date" : ""}`,
      ]);
    if (l.waiting) rows.push(["Still to come", `${l.waiting} entries and changes of standing`]);
    if (l.joined) rows.push(["Joined", ago(l.joined, now)]);
  }
  return (
    <Panel title="Lookout">
      <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-5 gap-y-1 px-3.5 py-3">
        {rows.map(([k, v]) => (
          <div key={k} className="contents">
            <dt className="text-soft">{k}</dt>
            <dd>{v}</dd>
          </div>
        ))}
      </dl>
      {l.refused && (
        <p className="border-t border-rule px-3.5 py-2.5">
          <span aria-hidden className="mr-2 text-failing">
            ▲
          </span>
          {ago(l.refused_at ?? "", now)}, somebody from <span className="font-mono text-sm">{l.refused}</span>{" "}
          came with a token that was used, or has ended, and was refused.
        </p>
      )}
      {l.alone.length > 0 && (
        <ul className="border-t border-rule px-3.5 py-2.5 text-sm text-soft">
          {[...l.alone]
            .reverse()
            .slice(0, 5)
            .map((a) => (
              <li key={a.from}>
                on its own from {clock(a.from)} to {clock(a.to)}
              </li>
            ))}
        </ul>
      )}
    </Panel>
  );
}

/** What is shown once, when a lookout may join. */
export function JoinText({ of: j }: { of: Schemas["LookoutJoin"] }) {
  return (
    <>
      <p>
        {j.cluster} waits for its lookout. Run it where the cluster can be reached. The token is good once,
        until {clock(j.until)}, and is not shown again.
      </p>
      <pre
        tabIndex={0}
        className="mt-3 overflow-x-auto rounded border border-rule bg-paper px-3 py-2 text-sm whitespace-pre-wrap break-all"
      >
        {`VIGILA_JOIN=${j.join_token} \\\n  vigila lookout --service ${location.origin} --service-key ${j.service_key} --kubeconfig FILE${j.only_namespaces ? ` --only-namespace ${j.only_namespaces.join(",")}` : ""}`}
      </pre>
      <p className="mt-3 text-soft">
        For manifests that run it inside the cluster:{" "}
        <span className="font-mono text-sm">vigila cluster add {j.cluster} --by-lookout --image IMAGE</span>
      </p>
    </>
  );
}
