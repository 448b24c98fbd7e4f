// Registries that follows ask: the list, and the form that adds or changes one.
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Schemas, api, got } from "../shared/api";
import { type Field, FormDialog } from "../shared/forms";
import { Forget, Page, few, text, useList } from "../shared/lists";
import { Button, Menu, Modal, Wrong } from "../shared/parts";
import { count } from "../shared/words";

const fields = (old?: Schemas["Registry"]): Field[] => [
  {
    name: "name",
    label: "Name",
    help: "Small letters, digits and dashes.",
    example: "harbour",
    fixed: !!old,
  },
  {
    name: "host",
    label: "Host",
    help: "As images name it, with its port where it has one.",
    example: "registry.brindle.example",
  },
  {
    name: "asked_at",
    label: "Asked at",
    help: "Host and port that it is asked at, when that is another than images name.",
    example: "10.4.0.7:5000",
  },
  { name: "user", label: "User", help: "Who signs in; nobody when empty." },
  {
    name: "password",
    label: "Password",
    help: "Stored encrypted, never shown again; as it was when empty.",
    kind: "secret",
  },
  {
    name: "token",
    label: "Token",
    help: "In place of user and password; it is sent as a bearer token.",
    kind: "secret",
  },
  { name: "about", label: "About", help: "What is there, in a sentence." },
  {
    name: "ca",
    label: "Authority",
    help: "Certificates in PEM that the registry is signed with, in place of the system's.",
    kind: "area",
  },
];

export function RegistriesPage() {
  const list = useList();
  const client = useQueryClient();
  const [form, setForm] = useState<Schemas["Registry"] | "new">();
  const [gone, setGone] = useState<string>();
  const [pushes, setPushes] = useState<string>();
  const registries = useQuery({
    queryKey: ["registries", list.search, list.offset],
    queryFn: () => got(api.GET("/registries", { params: { query: list.query } })),
    placeholderData: keepPreviousData,
  });
  if (registries.error && !registries.data) return <Wrong error={registries.error} />;
  if (!registries.data) return <p className="text-soft">Reading the registries…</p>;
  const { items, total } = registries.data;
  const old = form === "new" ? undefined : form;
  return (
    <>
      <Page
        title="Registries"
        about={
          total || list.search
            ? `${count(total, "registry").replace(/registrys$/, "registries")} that follows ask for versions of images.`
            : "No registries yet. A follow asks one for versions of its image."
        }
        add={
          <Button changes strong onClick={() => setForm("new")}>
            Add a registry
          </Button>
        }
        list={list}
        total={total}
        heads={["Registry", "Host", "Signs in", "Asked by"]}
      >
        {items.map((r) => (
          <tr key={r.name} className="border-b border-rule align-baseline" data-registry={r.name}>
            <td className="px-3 py-2">
              <strong>{r.name}</strong>
              <span className="block text-sm text-soft">{r.about}</span>
            </td>
            <td className="px-3 font-mono text-sm break-all">
              {r.host}
              {r.asked_at && <span className="text-soft"> at {r.asked_at}</span>}
            </td>
            <td className="px-3 text-sm">{r.signs_in ? (r.user ? `as ${r.user}` : "with a token") : "no"}</td>
            <td className="px-3 text-sm">{r.used_by.length > 0 ? few(r.used_by) : "nobody"}</td>
            <td className="py-1.5 text-right">
              <Menu
                label="Change or forget"
                items={[
                  ["Change it", () => setForm(r), "changes"],
                  ["Let it tell of pushes", () => setPushes(r.name)],
                  ["Forget it", () => setGone(r.name), "changes"],
                ]}
              />
            </td>
          </tr>
        ))}
      </Page>
      {form && (
        <FormDialog
          title={old ? `Change ${old.name}` : "Add a registry"}
          about="It is asked before it is kept."
          label={old ? "Check and change it" : "Check and add it"}
          fields={fields(old)}
          start={{
            name: old?.name ?? "",
            host: old?.host ?? "",
            asked_at: old?.asked_at ?? "",
            user: old?.user ?? "",
            about: old?.about ?? "",
          }}
          close={() => setForm(undefined)}
          send={async (v) => {
            await got(
              api.POST("/registries", {
                body: {
                  name: text(v, "name"),
                  host: text(v, "host"),
                  asked_at: text(v, "asked_at"),
                  user: text(v, "user"),
                  password: text(v, "password"),
                  token: text(v, "token"),
                  ca: text(v, "ca"),
                  about: text(v, "about"),
                },
              }),
            );
            void client.invalidateQueries({ queryKey: ["registries"] });
            return undefined;
          }}
        />
      )}
      {gone && (
        <Forget
          what={gone}
          about="Its credentials are forgotten with it. One that a follow asks stays."
          key_="registries"
          close={() => setGone(undefined)}
          act={() => got(api.DELETE("/registries/{name}", { params: { path: { name: gone } } }))}
        />
      )}
      {pushes && <Pushes name={pushes} close={() => setPushes(undefined)} />}
    </>
  );
}

function Pushes({ name, close }: { name: string; close: () => void }) {
  const [key, setKey] = useState<string>();
  const [error, setError] = useState<Error>();
  const pushes = useQuery({
    queryKey: ["registries", "pushes", name],
    queryFn: () => got(api.GET("/registries/{name}/pushes", { params: { path: { name } } })),
  });
  return (
    <Modal
      open
      close={close}
      title={`Pushes to ${name}`}
      about="With pushes a new version is found at once; without them each follow looks as often as it says."
    >
      {pushes.error && <Wrong error={pushes.error} />}
      {pushes.data && (
        <p>
          They are told to{" "}
          <span className="font-mono text-sm break-all">{location.origin + pushes.data.path}</span>
          {!pushes.data.has_key && !key && ". None is taken: there is no key yet"}.
        </p>
      )}
      {key && (
        <>
          <p className="mt-3">With this header, which is shown this once:</p>
          <pre
            tabIndex={0}
            className="mt-1.5 overflow-x-auto rounded-md border border-rule bg-paper p-3 text-sm"
          >
            Authorization: Bearer {key}
          </pre>
        </>
      )}
      {error && <Wrong error={error} />}
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={close}>Close</Button>
        <Button
          changes
          strong
          disabled={!!key}
          onClick={() =>
            got(api.POST("/registries/{name}/push-key", { params: { path: { name } } })).then(
              (k) => setKey(k.key),
              setError,
            )
          }
        >
          {pushes.data?.has_key ? "Make another key" : "Make a key"}
        </Button>
      </div>
    </Modal>
  );
}
