// What wards come from and go into: repositories and clusters.
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useEffect } from "react";
import { Link } from "react-router";
import { type Schemas, api, got } from "./api";
import { Wrong, useNow } from "./parts";
import { ago, count, span } from "./words";

function Page({
  title,
  about,
  heads,
  children,
}: {
  title: string;
  about: string;
  heads: string[];
  children: ReactNode;
}) {
  useEffect(() => {
    document.title = `${title} · Vigila`;
  }, [title]);
  return (
    <>
      <h1 className="text-2xl font-bold">{title}</h1>
      <p className="mt-0.5 text-soft">{about}</p>
      <table className="mt-4 w-full text-left">
        <thead className="border-b border-rule text-xs text-soft">
          <tr>
            {heads.map((h) => (
              <th key={h} className="px-3 pb-1.5 font-normal">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
    </>
  );
}

function Known({ of, children }: { of: Schemas["AsOf"]; children: ReactNode }) {
  const now = useNow();
  if (of.known) return <>{children}</>;
  return (
    <span>
      <strong>? can't be read</strong>
      {of.at && `, last ${ago(of.at, now)}`}
      {of.problem && <span className="block text-sm text-soft">{of.problem}</span>}
    </span>
  );
}

export function SourcesPage() {
  const now = useNow();
  const repos = useQuery({
    queryKey: ["repos"],
    queryFn: () => got(api.GET("/repos")),
    refetchInterval: 15_000,
  });
  if (repos.error) return <Wrong error={repos.error} />;
  if (!repos.data) return <p className="text-soft">Reading the sources…</p>;
  const items = repos.data.items;
  return (
    <Page
      title="Sources"
      about={
        items.length
          ? `${count(items.length, "repository").replace("repositorys", "repositories")}. Add one: vigila repo add NAME URL`
          : "No repositories yet. Add one: vigila repo add NAME URL"
      }
      heads={["Repository", "Address", "Branches", "Wards", "Last look"]}
    >
      {items.map((r) => (
        <tr key={r.name} className="border-b border-rule align-baseline">
          <td className="px-3 py-2 font-bold">{r.name}</td>
          <td className="px-3 font-mono text-sm break-all">{r.url}</td>
          <td className="px-3">{(r.branches ?? []).join(", ") || "none yet"}</td>
          <td className="px-3">
            <Link className="underline" to={`/?search=${r.name}`}>
              {r.wards}
            </Link>
          </td>
          <td className="px-3">
            <Known of={r.repository}>
              read {ago(r.repository.at, now)}
              {r.repository.next && (
                <span className="text-soft">, next look in {span(Date.parse(r.repository.next) - now)}</span>
              )}
            </Known>
          </td>
        </tr>
      ))}
    </Page>
  );
}

export function ClustersPage() {
  const clusters = useQuery({
    queryKey: ["clusters"],
    queryFn: () => got(api.GET("/clusters")),
    refetchInterval: 15_000,
  });
  if (clusters.error) return <Wrong error={clusters.error} />;
  if (!clusters.data) return <p className="text-soft">Reading the clusters…</p>;
  const items = clusters.data.items;
  return (
    <Page
      title="Clusters"
      about={
        items.length
          ? `${count(items.length, "cluster")}. Add one: vigila cluster add NAME --kubeconfig FILE`
          : "No clusters yet. Add one: vigila cluster add NAME --kubeconfig FILE"
      }
      heads={["Cluster", "Kubernetes", "Address", "Labels", "Wards", "Watch"]}
    >
      {items.map((c) => (
        <tr key={c.name} className="border-b border-rule align-baseline">
          <td className="px-3 py-2 font-bold">{c.name}</td>
          <td className="px-3">{c.version ?? "?"}</td>
          <td className="px-3 font-mono text-sm">{c.server}</td>
          <td className="px-3">
            {Object.entries(c.labels)
              .sort()
              .map(([k, v]) => `${k}=${v}`)
              .join(", ")}
          </td>
          <td className="px-3">
            <Link className="underline" to={`/?search=@${c.name}`}>
              {c.wards}
            </Link>
          </td>
          <td className="px-3">
            <Known of={c.live}>live</Known>
          </td>
        </tr>
      ))}
    </Page>
  );
}
