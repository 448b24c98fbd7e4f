// Clusters: the list, and the form that adds or changes one.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas, api, got } from "../shared/api";
import { type Field, FormDialog, type Values, pairText, pairs } from "../shared/forms";
import { Forget, Known, Page, by, text, useList } from "../shared/lists";
import { Button, Links, Menu, Wrong } from "../shared/parts";
import { count } from "../shared/words";
import { JoinText, LookoutState } from "./lookout";

function clusterFields(old?: Schemas["Cluster"]): Field[] {
  const is = (w: string) => (v: Values) => v.by === w;
  return [
    {
      name: "name",
      label: "Name",
      help: "What ward files call it: small letters, digits and dashes.",
      example: "quay",
      fixed: !!old,
    },
    {
      name: "by",
      label: "Reached by",
      help: "What a kubeconfig holds, one that lies on the service's machine, the token of a service account, from inside (the cluster that the service runs in), or a lookout: Vigila in the cluster or beside it, which calls this service, so that nothing outside has to reach the cluster.",
      kind: "choice",
      of: [...(old ? ["as it is now"] : []), "kubeconfig", "file there", "token", "inside", "lookout"],
    },
    {
      name: "kubeconfig",
      label: "Kubeconfig",
      help: "What it holds: kubectl config view --raw --flatten --minify. It may name no commands and no files. Encrypted at rest and never shown again.",
      kind: "area",
      example: "apiVersion: v1\nkind: Config",
      when: is("kubeconfig"),
    },
    {
      name: "kubeconfig_file",
      label: "File",
      help: "In the directory that the service was started with (vigila serve --kubeconfigs). Its credentials stay there.",
      example: "quay.yaml",
      when: is("file there"),
    },
    {
      name: "context",
      label: "Context",
      help: "In the kubeconfig; its current one when empty. A wrong one lists those there are.",
      when: (v) => v.by === "kubeconfig" || v.by === "file there",
    },
    {
      name: "server",
      label: "API server",
      help: "Its address.",
      example: "https://skerry.brindle.example:6443",
      when: is("token"),
    },
    {
      name: "token",
      label: "Token",
      help: "Of a service account. Encrypted at rest and never shown again. vigila cluster rbac prints what it has to be allowed.",
      kind: "secret",
      when: is("token"),
    },
    {
      name: "ca",
      label: "Authority",
      help: "Certificates in PEM that the API server is signed with.",
      kind: "area",
      example: "-----BEGIN CERTIFICATE-----",
      when: is("token"),
    },
    {
      name: "only",
      label: "Only namespaces",
      help: "Those that Vigila may look into: nothing is kept elsewhere. All when empty. vigila cluster rbac --namespace prints the rights for them.",
      example: "fares, piers",
    },
    {
      name: "labels",
      label: "Labels",
      help: old?.roster
        ? `Declared by roster ${old.roster}; change them there.`
        : "Wards choose clusters by them (into.clusters).",
      example: "tier=rehearsal, sea=sound",
      fixed: !!old?.roster,
    },
    {
      name: "about",
      label: "About",
      help: "What it is, in a sentence.",
      fixed: !!old?.roster,
    },
  ];
}

// Nothing is all of them; absent would be those of before.
const only = (said: string) => {
  const names = said.split(/[\s,]+/).filter(Boolean);
  return names.length ? names : ["*"];
};

export function ClustersPage() {
  const list = useList();
  const client = useQueryClient();
  const [form, setForm] = useState<Schemas["Cluster"] | "new">();
  const [gone, setGone] = useState<string>();
  const fresh = useQuery({
    queryKey: ["clusters", "new"],
    queryFn: () => got(api.GET("/new-clusters")),
    refetchInterval: 15_000,
  });
  const add = useMutation({
    mutationFn: (n: Schemas["NewCluster"]) =>
      got(api.POST("/clusters", { body: { name: n.name, made_by_ward: n.ward } })),
    onSuccess: () => void client.invalidateQueries({ queryKey: ["clusters"] }),
  });
  const clusters = useQuery({
    queryKey: ["clusters", list.search, list.offset],
    queryFn: () => got(api.GET("/clusters", { params: { query: list.query } })),
    placeholderData: keepPreviousData,
    refetchInterval: 15_000,
  });
  if (clusters.error && !clusters.data) return <Wrong error={clusters.error} />;
  if (!clusters.data) return <p className="text-soft">Reading the clusters…</p>;
  const { items, total } = clusters.data;
  const old = form === "new" ? undefined : form;
  return (
    <>
      <Page
        title="Clusters"
        about={
          total || list.search
            ? `${count(total, "cluster")} that wards go into.`
            : "No clusters yet. Add the first one, here or with vigila cluster add NAME --kubeconfig FILE."
        }
        add={
          <Button changes strong onClick={() => setForm("new")}>
            Add a cluster
          </Button>
        }
        list={list}
        total={total}
        heads={["Cluster", "Kubernetes", "Address", "Labels", "Wards", "Watch"]}
        wide={["Address"]}
      >
        {items.map((c) => (
          <tr key={c.name} className="border-b border-rule align-baseline">
            <td className="px-3 py-2">
              <Link
                to={`/clusters/${c.name}`}
                className="font-bold underline decoration-rule underline-offset-2"
              >
                {c.name}
              </Link>
              <span className="block text-sm text-soft">
                {[c.about, by(c.roster)].filter(Boolean).join(" ")}{" "}
                {Object.entries(c.links ?? {}).map(([k, v]) => (
                  <a
                    key={k}
                    className="mr-2 underline"
                    href={/^https?:/.test(v) ? v : undefined}
                    rel="noreferrer"
                    target="_blank"
                  >
                    {k}
                  </a>
                ))}
              </span>
            </td>
            <td className="px-3">{c.version ?? "?"}</td>
            <td className="px-3 font-mono text-sm break-all max-md:hidden">{c.server}</td>
            <td className="px-3 text-sm">{pairText(c.labels)}</td>
            <td className="px-3">
              <Link className="underline" to={`/?search=@${c.name}`}>
                {c.wards}
              </Link>
            </td>
            <td className="px-3">
              {c.by === "lookout" ? <LookoutState of={c} /> : <Known of={c.live}>live</Known>}
            </td>
            <td className="py-1.5 text-right">
              <Menu
                label="Change or forget"
                items={[
                  ["Change it", () => setForm(c), "changes"],
                  ["Forget it", () => setGone(c.name), "changes"],
                ]}
              />
            </td>
          </tr>
        ))}
      </Page>
      {(fresh.data?.items ?? []).length > 0 && (
        <section className="mt-8" aria-label="Clusters that wards make">
          <h2 className="text-lg font-bold">Made here, and not known yet</h2>
          <ul className="mt-2 divide-y divide-rule border-y border-rule">
            {fresh.data!.items.map((n) => (
              <li
                key={`${n.name} ${n.ward}`}
                className="flex flex-wrap items-baseline gap-x-4 py-2"
                data-new={n.name}
              >
                <strong>{n.name}</strong>
                <span className="min-w-0 flex-1 text-sm text-soft">
                  {n.says[0]!.toUpperCase() + n.says.slice(1)}. Made by{" "}
                  <Link className="underline" to={`/wards/${encodeURIComponent(n.ward)}`}>
                    {n.ward}
                  </Link>
                  {Object.keys(n.labels ?? {}).length > 0 && `, with ${pairText(n.labels)}`}
                </span>
                <Links of={n.links} />
                <Button changes disabled={!n.answers || add.isPending} onClick={() => add.mutate(n)}>
                  Add it
                </Button>
              </li>
            ))}
          </ul>
          {add.error && <Wrong error={add.error} />}
        </section>
      )}
      {form && (
        <FormDialog
          title={old ? `Change ${old.name}` : "Add a cluster"}
          about="It is asked for its version before it is kept; a lookout joins when it calls."
          label={old ? "Check and change it" : "Check and add it"}
          fields={clusterFields(old)}
          start={{
            name: old?.name ?? "",
            by: old ? "as it is now" : "kubeconfig",
            labels: pairText(old?.labels),
            about: old?.about ?? "",
            only: (old?.only_namespaces ?? []).join(", "),
          }}
          close={() => setForm(undefined)}
          send={async (v) => {
            if (v.by === "lookout") {
              const name = text(v, "name");
              const join = await got(
                api.POST("/clusters/{name}/lookout", {
                  params: { path: { name } },
                  body: {
                    about: text(v, "about"),
                    labels: pairs(text(v, "labels")),
                    links: old?.links ?? {},
                    only_namespaces: only(text(v, "only")),
                  },
                }),
              );
              void client.invalidateQueries({ queryKey: ["clusters"] });
              return <JoinText of={join} />;
            }
            await got(
              api.POST("/clusters", {
                body: {
                  name: text(v, "name"),
                  about: text(v, "about"),
                  labels: pairs(text(v, "labels")),
                  links: old?.links ?? {},
                  only_namespaces: only(text(v, "only")),
                  ...(v.by === "kubeconfig" && {
                    kubeconfig: text(v, "kubeconfig"),
                    context: text(v, "context"),
                  }),
                  ...(v.by === "file there" && {
                    kubeconfig_file: text(v, "kubeconfig_file"),
                    context: text(v, "context"),
                  }),
                  ...(v.by === "token" && {
                    server: text(v, "server"),
                    token: text(v, "token"),
                    ca: text(v, "ca"),
                  }),
                  ...(v.by === "inside" && { in_cluster: true }),
                },
              }),
            );
            void client.invalidateQueries({ queryKey: ["clusters"] });
            return undefined;
          }}
        />
      )}
      {gone && (
        <Forget
          what={gone}
          about="Only a cluster that keeps no ward can be forgotten. Nothing in it changes."
          key_="clusters"
          close={() => setGone(undefined)}
          act={() => got(api.DELETE("/clusters/{name}", { params: { path: { name: gone } } }))}
        />
      )}
    </>
  );
}
