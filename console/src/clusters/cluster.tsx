// One cluster: how it is, what is kept there and by whom, its components, who may what, and the warnings of the last hour.
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { Components } from "../kits/kits";
import { type Schemas, api, got } from "../shared/api";
import { Known, few } from "../shared/lists";
import { Button, Links, Panel, Wrong, useNow } from "../shared/parts";
import { ago, count } from "../shared/words";
import { LookoutPanel } from "./lookout";

type Of = Schemas["ClusterPage"];

const gib = (b: number) => `${(b / 2 ** 30).toLocaleString("en", { maximumFractionDigits: 1 })} GiB`;
const cores = (m: number) => (m / 1000).toLocaleString("en", { maximumFractionDigits: 1 });

export function ClusterPage() {
  const { name = "" } = useParams();
  const now = useNow();
  const page = useQuery({
    queryKey: ["clusters", "one", name],
    queryFn: () => got(api.GET("/clusters/{name}", { params: { path: { name } } })),
    refetchInterval: 15_000,
  });
  if (page.error && !page.data) return <Wrong error={page.error} />;
  if (!page.data) return <p className="text-soft">Reading the cluster…</p>;
  const p = page.data;
  const c = p.cluster_of;
  const loud = p.kept_by.reduce((n, o) => n + o.need_you, 0);
  const down = p.machines.filter((m) => !m.up);
  return (
    <>
      <p className="text-sm">
        <Link to={p.whole ? "/clusters" : "/"} className="text-soft underline">
          {p.whole ? "Clusters" : "Watch"}
        </Link>
      </p>
      <div className="mt-1 flex flex-wrap items-baseline gap-x-5 gap-y-2">
        <h1 className="text-2xl font-bold">{c.name}</h1>
        <span className="text-soft">{c.about}</span>
        <span className="ml-auto">
          {p.kubeconfig_for_you && (
            <Button
              tip="For you, with your own rights there; nothing in it is secret"
              onClick={() => void download(c.name)}
            >
              Your kubeconfig
            </Button>
          )}
          <Links of={c.links} />
        </span>
      </div>
      <p className="mt-3 text-lg">{sentence(p, loud, down.length)}</p>
      <p className="mt-1 text-sm text-soft">
        Kubernetes {c.version ?? "?"}
        {Object.keys(c.labels).length > 0 &&
          ` · ${Object.entries(c.labels)
            .map(([k, v]) => `${k}: ${v}`)
            .join(", ")}`}
        {c.server && ` · ${c.server}`}
        {c.only_namespaces && ` · looked into: ${c.only_namespaces.join(", ")} alone`}
        {c.declared_namespaces &&
          ` · roster ${c.roster} lets objects be kept in ${c.declared_namespaces.join(", ")}`}{" "}
        ·{" "}
        {c.lookout ? (
          c.lookout.here ? (
            "by its lookout"
          ) : (
            "its lookout is away"
          )
        ) : (
          <Known of={c.live}>live</Known>
        )}
      </p>
      <div className="mt-6 grid items-start gap-5 lg:grid-cols-2">
        <div className="grid min-w-0 gap-5">
          <Panel
            title="What is kept here"
            side={
              <Link to={`/?search=@${c.name}`} className="font-normal text-soft underline">
                {count(c.wards, "ward")} on the watch
              </Link>
            }
          >
            <Kept of={p} />
          </Panel>
          {p.switchable.length > 0 && (
            <Panel title="Components">
              <div className="px-3.5 pb-2">
                <Components of={p.switchable} />
              </div>
            </Panel>
          )}
          {p.whole && (
            <Panel title="Who may what">
              <People of={p} />
            </Panel>
          )}
          {p.whole && (
            <Panel title={capacity(p)}>
              <Machines of={p} now={now} />
            </Panel>
          )}
        </div>
        <div className="grid min-w-0 gap-5">
          {c.lookout && <LookoutPanel of={c.lookout} />}
          <Panel title="Warnings of the last hour">
            <Warnings of={p} now={now} />
          </Panel>
        </div>
      </div>
    </>
  );
}

/** Saves the kubeconfig of whoever is signed in. */
async function download(name: string) {
  const { own_kubeconfig } = await got(
    api.GET("/clusters/{name}/kubeconfig", { params: { path: { name } } }),
  );
  const a = document.createElement("a");
  a.href = URL.createObjectURL(new Blob([own_kubeconfig], { type: "application/yaml" }));
  a.download = `${name}.yaml`;
  a.click();
  URL.revokeObjectURL(a.href);
}

function sentence(p: Of, loud: number, down: number): string {
  const c = p.cluster_of;
  const parts = [
    c.lookout?.waits_to_join
      ? "Its lookout has not joined yet"
      : c.lookout && !c.lookout.here
        ? "Its lookout is away, and goes on by itself; what is shown is the last known"
        : !c.live.known
          ? "It can't be read; what is shown is the last known"
          : "",
    down > 0 ? `${count(down, "machine")} of ${p.machines.length} ${down === 1 ? "is" : "are"} not up` : "",
    loud > 0 ? `${count(loud, "ward")} of ${c.wards} ${loud === 1 ? "needs" : "need"} somebody` : "",
  ].filter(Boolean);
  if (parts.length > 0) return `${parts.join(". ")}.`;
  return c.wards === 0 ? "Nothing is kept here yet." : `All is quiet: ${count(c.wards, "ward")} kept.`;
}

function capacity(p: Of): string {
  if (p.machines.length === 0) return "Machines";
  const up = p.machines.filter((m) => m.up && !m.closed);
  const sum = (f: (m: Schemas["Machine"]) => number) => up.reduce((n, m) => n + f(m), 0);
  return `${count(p.machines.length, "machine")}: ${cores(sum((m) => m.millicores))} cores, ${gib(sum((m) => m.bytes))}, ${sum((m) => m.pod_room).toLocaleString("en")} Pods`;
}

function Kept({ of: p }: { of: Of }) {
  if (p.kept_by.length === 0) return <p className="px-3.5 py-3 text-soft">No ward goes here.</p>;
  return (
    <table className="w-full text-left">
      <thead>
        <tr className="text-sm text-soft">
          {["Owner", "Wards", "In step", "Need somebody"].map((h) => (
            <th key={h} className="px-3.5 pt-2 font-normal">
              {h}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {p.kept_by.map((o) => (
          <tr key={o.owner} className="border-t border-rule">
            <td className="px-3.5 py-1.5">
              <Link
                to={`/?search=${encodeURIComponent(`@${p.cluster_of.name} ${o.owner}`)}`}
                className="underline decoration-rule underline-offset-2"
              >
                {o.owner || "nobody named"}
              </Link>
            </td>
            <td className="px-3.5 tabular-nums">{o.wards}</td>
            <td className="px-3.5 tabular-nums">{o.in_step}</td>
            <td className={`px-3.5 tabular-nums ${o.need_you ? "font-bold" : "text-soft"}`}>
              {o.need_you || "none"}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Warnings({ of: p, now }: { of: Of; now: number }) {
  if (p.warnings_unknown) return <Wrong error={new Error(p.warnings_unknown)} />;
  if (p.warnings.length === 0) return <p className="px-3.5 py-3 text-soft">None.</p>;
  const shown = p.warnings.slice(0, 20);
  return (
    <>
      <ul className="divide-y divide-rule">
        {shown.map((e, i) => (
          <li key={`${e.at} ${e.kind} ${e.name} ${e.reason} ${i}`} className="px-3.5 py-2 text-sm">
            <p className="break-words">
              <span aria-hidden className="mr-1.5 text-failing">
                ▲
              </span>
              <strong>{e.reason}</strong> {e.kind}/{e.name}{" "}
              <span className="text-soft">
                {ago(e.at, now)}
                {e.times > 1 && `, ${e.times} times`}
              </span>
            </p>
            <p className="line-clamp-2 break-words text-soft" title={e.text}>
              {e.text}
            </p>
            <p>
              {e.of_wards.map((id) => (
                <Link
                  key={id}
                  to={`/wards/${encodeURIComponent(id)}`}
                  className="mr-2 underline decoration-rule underline-offset-2"
                >
                  {id}
                </Link>
              ))}
              {e.of_wards.length === 0 && (
                <span className="text-soft">{e.namespace || "no namespace"}, which no ward keeps</span>
              )}
            </p>
          </li>
        ))}
      </ul>
      {(p.warnings.length > shown.length || p.more_warnings) && (
        <p className="border-t border-rule px-3.5 py-2 text-sm text-soft">
          The newest {shown.length} of {p.more_warnings ? "more than " : ""}
          {p.warnings.length}. All: vigila cluster show {p.cluster_of.name} --warnings
        </p>
      )}
    </>
  );
}

function People({ of: p }: { of: Of }) {
  return (
    <ul className="divide-y divide-rule">
      {p.people.map((t) => (
        <li key={t.team} className="px-3.5 py-2 text-sm">
          <strong>{t.team}</strong> <span className="text-soft">{few(t.members)}</span>
          <p>
            {t.verbs.join(", ")}{" "}
            <span className="text-soft">
              · {t.wards} of {count(p.cluster_of.wards, "ward")}
            </span>
          </p>
        </li>
      ))}
      <li className="px-3.5 py-2 text-sm text-soft">
        Operators and admins may everything; readers see it. Ask about somebody: vigila may WHO sync WARD
      </li>
    </ul>
  );
}

function Machines({ of: p, now }: { of: Of; now: number }) {
  if (p.machines_unknown) return <Wrong error={new Error(p.machines_unknown)} />;
  if (p.machines.length === 0) return <p className="px-3.5 py-3 text-soft">There are none.</p>;
  const shown = [...p.machines]
    .sort((a, b) => Number(a.up) - Number(b.up) || Number(!!b.says) - Number(!!a.says))
    .slice(0, 30);
  return (
    <ul className="divide-y divide-rule">
      {shown.map((m) => (
        <li key={m.name} className="flex flex-wrap items-baseline gap-x-3 px-3.5 py-1.5 text-sm">
          <strong className="min-w-0 break-all">{m.name}</strong>
          <span>
            {m.up ? "up" : <span className="font-bold">▲ not up</span>}
            {m.closed && ", closed to new Pods"}
            {m.since && <span className="text-soft"> since {ago(m.since, now)}</span>}
          </span>
          <span className="ml-auto text-soft tabular-nums">
            {cores(m.millicores)} cores, {gib(m.bytes)}, {m.version}
          </span>
          {m.says && <span className="w-full break-words text-soft">{m.says}</span>}
        </li>
      ))}
      {p.machines.length > shown.length && (
        <li className="px-3.5 py-1.5 text-sm text-soft">
          and {p.machines.length - shown.length} more, which are up
        </li>
      )}
    </ul>
  );
}
