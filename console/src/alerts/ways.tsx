// The ways that messages go by: the list, and the form that adds or changes one.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas, api, got } from "../shared/api";
import { type Field, FormDialog, type Values } from "../shared/forms";
import { Forget, Page, few, text, useList, words } from "../shared/lists";
import { Button, Menu, Modal, Wrong } from "../shared/parts";
import { count } from "../shared/words";

type Way = Schemas["Way"];

const isMail = (v: Values) => v.form === "mail";

const fields = (old?: Way): Field[] => [
  { name: "name", label: "Name", help: "As alerts name it.", example: "ops-chat", fixed: !!old },
  {
    name: "form",
    label: "Kind",
    help: "A chat's incoming webhook, mail, an address that takes signed events (CloudEvents), or an Alertmanager.",
    kind: "choice",
    of: ["chat", "mail", "http", "alertmanager"],
    fixed: !!old,
  },
  {
    name: "url",
    label: "Address",
    help: "Stored encrypted, since whoever has it may write there; as it was when empty.",
    kind: "secret",
    when: (v) => !isMail(v),
  },
  {
    name: "server",
    label: "Mail server",
    help: "HOST:PORT, over TLS.",
    example: "mail.brindle.example:587",
    when: isMail,
  },
  {
    name: "sender",
    label: "From",
    help: "Who mail is from.",
    example: "vigila@brindle.example",
    when: isMail,
  },
  {
    name: "goes_to",
    label: "To",
    help: "Where an alert names nobody. Spaces between.",
    example: "ops@brindle.example",
    when: isMail,
  },
  { name: "user", label: "User", help: "Who signs in to the mail server; nobody when empty.", when: isMail },
  {
    name: "token",
    label: "Key, token or password",
    help: "Signs events (whsec_…), signs in to an Alertmanager, or to the mail server. Stored encrypted; as it was when empty.",
    kind: "secret",
    when: (v) => v.form !== "chat",
  },
  {
    name: "console",
    label: "Links begin with",
    help: "The address of this console, as those who get the messages reach it.",
    example: "https://vigila.brindle.example",
  },
  {
    name: "for_rosters",
    label: "Only for rosters",
    help: "Alerts of a roster with limits may go by it only when it is named here.",
  },
  { name: "about", label: "About", help: "What it is for, in a sentence." },
  {
    name: "ca",
    label: "Authority",
    help: "Certificates in PEM that the server is signed with, in place of the system's.",
    kind: "area",
  },
];

export function WaysPage() {
  const list = useList();
  const client = useQueryClient();
  const [form, setForm] = useState<Way | "new">();
  const [gone, setGone] = useState<string>();
  const [trying, setTrying] = useState<Way>();
  const ways = useQuery({ queryKey: ["alerts", "ways"], queryFn: () => got(api.GET("/ways")) });
  if (ways.error && !ways.data) return <Wrong error={ways.error} />;
  if (!ways.data) return <p className="text-soft">Reading the ways…</p>;
  const all = ways.data.items;
  const items = all.filter((w) =>
    [w.name, w.form, w.about, w.server, ...(w.goes_to ?? [])]
      .join(" ")
      .toLowerCase()
      .includes(list.search.toLowerCase()),
  );
  const old = form === "new" ? undefined : form;
  return (
    <>
      <Page
        title="Ways"
        about={
          all.length > 0
            ? `${count(all.length, "way")} that messages go by.`
            : "No way yet: nobody can be told of anything. A chat, mail, an address for events, or an Alertmanager."
        }
        add={
          <>
            <Link to="/alerts" className="self-center text-sm underline underline-offset-2">
              The alerts
            </Link>
            <Button changes strong onClick={() => setForm("new")}>
              Add a way
            </Button>
          </>
        }
        list={list}
        total={items.length}
        heads={["Way", "Kind", "Where", "For"]}
      >
        {items.map((w) => (
          <tr key={w.name} className="border-b border-rule align-baseline" data-way={w.name}>
            <td className="px-3 py-2">
              <strong>{w.name}</strong>
              <span className="block text-sm text-soft">{w.about}</span>
            </td>
            <td className="px-3 text-sm">{w.form}</td>
            <td className="px-3 text-sm">
              <span className="font-mono">{w.server}</span>
              {!!w.goes_to?.length && <span className="block text-soft">to {few(w.goes_to)}</span>}
            </td>
            <td className="px-3 text-sm">
              {w.for_rosters?.length
                ? `alerts of roster ${few(w.for_rosters)}`
                : "alerts of rosters without limits"}
            </td>
            <td className="py-1.5 text-right">
              <Menu
                label="Try, change or forget"
                items={[
                  ["Try it", () => setTrying(w), "changes"],
                  ["Change it", () => setForm(w), "changes"],
                  ["Forget it", () => setGone(w.name), "changes"],
                ]}
              />
            </td>
          </tr>
        ))}
      </Page>
      {trying && <Try way={trying} close={() => setTrying(undefined)} />}
      {form && (
        <FormDialog
          title={old ? `Change ${old.name}` : "Add a way"}
          about="Try it afterwards: a message says that nothing is wrong."
          label={old ? "Change it" : "Add it"}
          fields={fields(old)}
          start={{
            name: old?.name ?? "",
            form: old?.form ?? "chat",
            server: old?.form === "mail" ? (old.server ?? "") : "",
            sender: old?.sender ?? "",
            goes_to: (old?.goes_to ?? []).join(" "),
            user: old?.user ?? "",
            console: old?.console ?? location.origin,
            for_rosters: (old?.for_rosters ?? []).join(" "),
            about: old?.about ?? "",
          }}
          close={() => setForm(undefined)}
          send={async (v) => {
            const common = {
              name: text(v, "name"),
              form: text(v, "form") as Schemas["AddWay"]["form"],
              about: text(v, "about"),
              console: text(v, "console"),
              for_rosters: words(v, "for_rosters"),
              token: text(v, "token"),
              ca: text(v, "ca"),
            };
            await got(
              api.POST("/ways", {
                body: isMail(v)
                  ? {
                      ...common,
                      server: text(v, "server"),
                      sender: text(v, "sender"),
                      goes_to: words(v, "goes_to"),
                      user: text(v, "user"),
                    }
                  : { ...common, url: text(v, "url") },
              }),
            );
            void client.invalidateQueries({ queryKey: ["alerts"] });
            return undefined;
          }}
        />
      )}
      {gone && (
        <Forget
          what={gone}
          about="Its address and key are forgotten with it. What is on its way by it is not sent, and alerts that name it say so."
          key_="alerts"
          close={() => setGone(undefined)}
          act={() => got(api.DELETE("/ways/{name}", { params: { path: { name: gone } } }))}
        />
      )}
    </>
  );
}

/** Sends a message that says that nothing is wrong. */
function Try({ way, close }: { way: Way; close: () => void }) {
  const [to, setTo] = useState((way.goes_to ?? []).join(" "));
  const act = useMutation({
    mutationFn: () =>
      got(
        api.POST("/ways/{name}/try", {
          params: { path: { name: way.name } },
          body: { goes_to: way.form === "mail" ? words({ to }, "to") : [] },
        }),
      ),
  });
  return (
    <Modal
      open
      close={close}
      title={`Try ${way.name}`}
      about="A message is sent that says that nothing is wrong, and who tried."
    >
      {way.form === "mail" && (
        <label className="block text-sm">
          <span className="text-soft">To whom</span>
          <input
            value={to}
            onChange={(e) => setTo(e.target.value)}
            placeholder="ops@brindle.example"
            className="mt-1 block w-full rounded-md border border-rule bg-paper px-2.5 py-1.5"
          />
        </label>
      )}
      {act.error && <Wrong error={act.error} />}
      {act.isSuccess && (
        <p role="status" className="mt-3 text-sm">
          {way.name} took the message.
        </p>
      )}
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={close}>Close</Button>
        <Button strong disabled={act.isPending} onClick={() => act.mutate()}>
          {act.isPending ? "Sending…" : "Send it"}
        </Button>
      </div>
    </Modal>
  );
}
