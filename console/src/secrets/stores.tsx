// Stores of secret values: the list, and the form that adds or changes one.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas, api, got } from "../shared/api";
import { type Field, FormDialog, type Values } from "../shared/forms";
import { Forget, Page, few, text, useList, words } from "../shared/lists";
import { Button, Menu, Wrong, useNow } from "../shared/parts";
import { ago, count } from "../shared/words";

type Store = Schemas["Store"];

const server = "a server";
const afar = "a server, by a lookout";
const space = "a namespace";
const files = "encrypted files";
const isServer = (v: Values) => v.form !== space && v.form !== files && v.form !== afar;

/** What the form calls the kind of a store. */
const kindOf = (s?: Store) =>
  s?.form === "namespace" ? space : s?.form === "files" ? files : s?.cluster ? afar : server;

const fields = (old?: Store): Field[] => [
  {
    name: "name",
    label: "Name",
    help: "As references name it: secret://NAME/PATH#KEY.",
    example: "harbour",
    fixed: !!old,
  },
  {
    name: "form",
    label: "Kind",
    help: "A server that speaks KV version 2, one that only the lookout of a cluster reaches (its --stores file), the Secrets of a namespace of a known cluster, or files in git (SOPS format, age).",
    kind: "choice",
    of: [server, afar, space, files],
    fixed: !!old,
  },
  {
    name: "url",
    label: "Address",
    help: "Of the server.",
    example: "https://secrets.brindle.example",
    when: isServer,
  },
  { name: "mount", label: "Mount", help: "Where its values are.", example: "secret", when: isServer },
  {
    name: "sign_in",
    label: "Signs in",
    help: "With a token, with a role's id and secret, or as the service account that Vigila runs as.",
    kind: "choice",
    of: ["token", "role", "kubernetes"],
    when: isServer,
  },
  {
    name: "role_id",
    label: "Role",
    help: "Its id; as a service account its name.",
    when: (v) => isServer(v) && (v.sign_in === "role" || v.sign_in === "kubernetes"),
  },
  {
    name: "token",
    label: "Token",
    help: "Or the role's secret. Stored encrypted, never shown again; as it was when empty.",
    kind: "secret",
    when: (v) => isServer(v) && v.sign_in !== "kubernetes",
  },
  {
    name: "repo",
    label: "Repository",
    help: "A known one.",
    example: "moorings",
    when: (v) => v.form === files,
  },
  {
    name: "directory",
    label: "Directory",
    help: "A path is that of a file below it, without its ending.",
    example: "secrets",
    when: (v) => v.form === files,
  },
  {
    name: "ref",
    label: "Branch",
    help: "Or tag; main when empty.",
    when: (v) => v.form === files,
  },
  {
    name: "key",
    label: "Age key",
    help: "That the files are encrypted to. Stored encrypted, never shown again; as it was when empty.",
    kind: "secret",
    when: (v) => v.form === files,
  },
  {
    name: "cluster",
    label: "Cluster",
    help: "A known one; for a server, whose lookout asks it.",
    example: "quay",
    when: (v) => v.form === space || v.form === afar,
  },
  {
    name: "namespace",
    label: "Namespace",
    help: "A path is the name of a Secret in it.",
    example: "harbour-secrets",
    when: (v) => v.form === space,
  },
  { name: "for_wards", label: "Only for wards", help: "Names, with spaces between; all when empty." },
  {
    name: "for_owners",
    label: "Only for owners",
    help: "An owner is what a ward file says.",
  },
  { name: "for_clusters", label: "Only in clusters", help: "Where wards are placed." },
  {
    name: "for_rosters",
    label: "Only for rosters",
    help: "Wards of a roster with limits may use it only when it is named here.",
  },
  { name: "about", label: "About", help: "What it is for, in a sentence." },
  {
    name: "ca",
    label: "Authority",
    help: "Certificates in PEM that the server is signed with, in place of the system's.",
    kind: "area",
    when: isServer,
  },
];

/** Who may use a store. */
function whoMay(s: Store): string {
  const parts = [
    s.for_wards?.length ? few(s.for_wards) : "",
    s.for_owners?.length ? `owner ${few(s.for_owners)}` : "",
    s.for_clusters?.length ? `in ${few(s.for_clusters)}` : "",
    s.for_rosters?.length ? `roster ${few(s.for_rosters)}` : "",
  ].filter(Boolean);
  return parts.join(", ") || "every ward";
}

export function StoresPage() {
  const list = useList();
  const now = useNow();
  const client = useQueryClient();
  const [form, setForm] = useState<Store | "new">();
  const [gone, setGone] = useState<string>();
  const look = useMutation({
    mutationFn: (name: string) => got(api.POST("/stores/{name}/try", { params: { path: { name } } })),
    onSettled: () => void client.invalidateQueries({ queryKey: ["stores"] }),
  });
  const stores = useQuery({
    queryKey: ["stores", list.search, list.offset],
    queryFn: () => got(api.GET("/stores", { params: { query: list.query } })),
    placeholderData: keepPreviousData,
  });
  if (stores.error && !stores.data) return <Wrong error={stores.error} />;
  if (!stores.data) return <p className="text-soft">Reading the stores…</p>;
  const { items, total } = stores.data;
  const old = form === "new" ? undefined : form;
  return (
    <>
      <Page
        title="Stores"
        about={
          total || list.search
            ? `${count(total, "store")} that secret values live in, outside git.`
            : "No stores yet. A store keeps secret values outside git; Secrets refer to them."
        }
        add={
          <Button changes strong onClick={() => setForm("new")}>
            Add a store
          </Button>
        }
        list={list}
        total={total}
        heads={["Store", "Where", "May be used by", "Is used by", "Looked at"]}
      >
        {items.map((s) => (
          <tr key={s.name} className="border-b border-rule align-baseline" data-store={s.name}>
            <td className="px-3 py-2">
              <strong>{s.name}</strong>
              <span className="block text-sm text-soft">{s.about}</span>
            </td>
            <td className="px-3 font-mono text-sm break-all">
              {s.form === "namespace"
                ? `${s.cluster}/${s.namespace}`
                : s.form === "files"
                  ? `${s.repo}/${s.directory}`
                  : s.cluster
                    ? `the lookout of ${s.cluster}`
                    : `${s.url} ${s.mount}`}
            </td>
            <td className="px-3 text-sm">{whoMay(s)}</td>
            <td className="px-3 text-sm">
              {s.used_by.length > 0 ? few(s.used_by) : "nobody"}
              {s.missing > 0 && (
                <Link
                  to="/secrets?missing=yes"
                  className="block underline decoration-rule underline-offset-2"
                >
                  <span className="text-behind">▲</span> {s.missing} missing
                </Link>
              )}
            </td>
            <td className="px-3 text-sm">
              {s.problem ? (
                <>
                  <span className="text-failing">▲</span> {s.problem}
                </>
              ) : s.looked ? (
                ago(s.looked, now)
              ) : (
                "not yet"
              )}
            </td>
            <td className="py-1.5 text-right">
              <Menu
                label="Look, change or forget"
                items={[
                  ["Look now", () => look.mutate(s.name), "changes"],
                  ["Change it", () => setForm(s), "changes"],
                  ["Forget it", () => setGone(s.name), "changes"],
                ]}
              />
            </td>
          </tr>
        ))}
      </Page>
      {look.error && <Wrong error={look.error} />}
      {form && (
        <FormDialog
          title={old ? `Change ${old.name}` : "Add a store"}
          about="It is signed in to before it is kept."
          label={old ? "Check and change it" : "Check and add it"}
          fields={fields(old)}
          start={{
            name: old?.name ?? "",
            form: kindOf(old),
            repo: old?.repo ?? "",
            directory: old?.directory ?? "",
            ref: old?.ref ?? "",
            url: old?.url ?? "",
            mount: old?.mount ?? "secret",
            sign_in: old?.sign_in || "token",
            role_id: old?.role_id ?? "",
            cluster: old?.cluster ?? "",
            namespace: old?.namespace ?? "",
            for_wards: (old?.for_wards ?? []).join(" "),
            for_owners: (old?.for_owners ?? []).join(" "),
            for_clusters: (old?.for_clusters ?? []).join(" "),
            for_rosters: (old?.for_rosters ?? []).join(" "),
            about: old?.about ?? "",
          }}
          close={() => setForm(undefined)}
          send={async (v) => {
            const common = {
              name: text(v, "name"),
              about: text(v, "about"),
              for_wards: words(v, "for_wards"),
              for_owners: words(v, "for_owners"),
              for_clusters: words(v, "for_clusters"),
              for_rosters: words(v, "for_rosters"),
              every_seconds: old?.every_seconds,
            };
            await got(
              api.POST("/stores", {
                body: isServer(v)
                  ? {
                      ...common,
                      form: "kv",
                      url: text(v, "url"),
                      mount: text(v, "mount"),
                      sign_in: text(v, "sign_in"),
                      role_id: text(v, "role_id"),
                      token: text(v, "token"),
                      ca: text(v, "ca"),
                    }
                  : v.form === files
                    ? {
                        ...common,
                        form: "files",
                        repo: text(v, "repo"),
                        directory: text(v, "directory"),
                        ref: text(v, "ref"),
                        token: text(v, "key"),
                      }
                    : v.form === afar
                      ? { ...common, form: "kv", cluster: text(v, "cluster") }
                      : {
                          ...common,
                          form: "namespace",
                          cluster: text(v, "cluster"),
                          namespace: text(v, "namespace"),
                        },
              }),
            );
            for (const key of ["stores", "secrets"]) void client.invalidateQueries({ queryKey: [key] });
            return undefined;
          }}
        />
      )}
      {gone && (
        <Forget
          what={gone}
          about="Its token is forgotten with it; its values stay in it. One that a ward refers to stays."
          key_="stores"
          close={() => setGone(undefined)}
          act={() => got(api.DELETE("/stores/{name}", { params: { path: { name: gone } } }))}
        />
      )}
    </>
  );
}
