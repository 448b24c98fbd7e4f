// Alerts: who is told of what, what was sent and whether it got there, what is muted, and the ways that messages go by.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { type Schemas, api, got } from "../shared/api";
import { Page, few, useList } from "../shared/lists";
import { Button, Menu, Modal, Panel, Wrong, useNow } from "../shared/parts";
import { ago, count, moment, span } from "../shared/words";
import { WaysPage } from "./ways";

type Alert = Schemas["Alert"];
type Delivery = Schemas["Delivery"];

/** The alerts, the messages, or the ways: as the address says. */
export function AlertsPage() {
  const show = useSearchParams()[0].get("show");
  if (show === "messages") return <Messages />;
  if (show === "ways") return <WaysPage />;
  return <Alerts />;
}

const link = "self-center text-sm underline underline-offset-2";

function Alerts() {
  const list = useList();
  const [trying, setTrying] = useState<string>();
  const alerts = useQuery({
    queryKey: ["alerts", list.search, list.offset],
    queryFn: () => got(api.GET("/alerts", { params: { query: list.query } })),
    placeholderData: keepPreviousData,
  });
  const undelivered = useQuery({
    queryKey: ["alerts", "undelivered"],
    queryFn: () => got(api.GET("/deliveries", { params: { query: { undelivered: true, limit: 1 } } })),
  });
  if (alerts.error && !alerts.data) return <Wrong error={alerts.error} />;
  if (!alerts.data) return <p className="text-soft">Reading the alerts…</p>;
  const { items, total } = alerts.data;
  const lost = undelivered.data?.total ?? 0;
  return (
    <>
      <Page
        title="Alerts"
        about={
          total || list.search
            ? "Who is told when something needs somebody: once, and when it is over."
            : "Nobody is told of anything yet: no roster declares an alert. What one looks like: vigila schema alert"
        }
        add={
          <>
            <Link to="/alerts?show=messages" className={link}>
              Messages
            </Link>
            <Link to="/alerts?show=ways" className={link}>
              Ways
            </Link>
          </>
        }
        list={list}
        total={total}
        heads={["Alert", "Of", "About", "Tells", "Now"]}
      >
        {items.map((a) => (
          <tr key={a.name} className="border-b border-rule align-baseline" data-alert={a.name}>
            <td className="px-3 py-2">
              <strong>{a.name}</strong>
              <span className="block text-sm text-soft">{a.about}</span>
              <span className="block font-mono text-xs text-soft">
                {a.roster} {a.declared_at}
              </span>
            </td>
            <td className="px-3 text-sm">{a.of_what}</td>
            <td className="px-3 text-sm">
              {a.topics.length > 0 ? a.topics.join(", ") : "whatever needs somebody"}
              <span className="block text-soft">{when(a)}</span>
            </td>
            <td className="px-3 text-sm">
              {few(a.goes_to)}
              {a.ways_missing?.map((w) => (
                <span key={w} className="block">
                  <span className="text-failing">▲</span> there is no way {w}:{" "}
                  <Link to="/alerts?show=ways" className="underline underline-offset-2">
                    add it
                  </Link>
                </span>
              ))}
            </td>
            <td className="px-3 text-sm">
              <Now of={a} />
            </td>
            <td className="py-1.5 text-right">
              <Menu
                label="Try"
                items={[["Send a message by all its ways", () => setTrying(a.name), "changes"]]}
              />
            </td>
          </tr>
        ))}
      </Page>
      <Muted />
      <Panel
        title="The last messages"
        side={
          <Link to="/alerts?show=messages" className="font-normal underline underline-offset-2">
            {lost > 0 ? (
              <>
                <span className="text-failing">▲</span> {lost} not delivered
              </>
            ) : (
              "All messages"
            )}
          </Link>
        }
      >
        <Last />
      </Panel>
      {trying && <Try name={trying} close={() => setTrying(undefined)} />}
    </>
  );
}

/** When an alert tells. */
function when(a: Alert): string {
  return [
    a.after_seconds > 0 ? `once it lasts ${span(a.after_seconds * 1000)}` : "at once",
    a.again_seconds ? `again every ${span(a.again_seconds * 1000)}` : "",
    a.quiet_hours ? `quiet ${a.quiet_hours}` : "",
  ]
    .filter(Boolean)
    .join("; ");
}

function Now({ of: a }: { of: Alert }) {
  if (a.told + a.waiting === 0) return <span className="text-soft">nothing wrong</span>;
  return (
    <>
      {a.told > 0 && (
        <span className="block">
          <span className="text-behind">▲</span> told of {a.told} that {a.told === 1 ? "is" : "are"} not over
        </span>
      )}
      {a.waiting > 0 && (
        <span
          className="block text-soft"
          title="It does not last long enough yet, it is quiet now, it is muted, or it waits for other messages."
        >
          {a.waiting} not told yet
        </span>
      )}
    </>
  );
}

/** What nobody is told of for a while; nothing where nothing is. */
function Muted() {
  const now = useNow();
  const client = useQueryClient();
  const mutes = useQuery({ queryKey: ["alerts", "mutes"], queryFn: () => got(api.GET("/mutes")) });
  const end = useMutation({
    mutationFn: (subject: string) => got(api.DELETE("/mutes", { params: { query: { subject } } })),
    onSettled: () => void client.invalidateQueries({ queryKey: ["alerts"] }),
  });
  const items = mutes.data?.items ?? [];
  if (mutes.error) return <Wrong error={mutes.error} />;
  if (items.length === 0) return <div className="mt-6" />;
  return (
    <div className="my-6">
      <Panel title="Muted: nobody is told of these">
        <ul>
          {items.map((m) => (
            <li
              key={m.subject}
              data-mute={m.subject}
              className="flex items-baseline gap-3 border-b border-rule px-3.5 py-2 text-sm last:border-0"
            >
              <span className="min-w-0 flex-1">
                <Subject of={m.subject} /> until {moment(m.until)}: {m.why}
                <span className="text-soft">
                  {" "}
                  · {m.by}
                  {m.at && `, ${ago(m.at, now)}`}
                </span>
              </span>
              <Button changes disabled={end.isPending} onClick={() => end.mutate(m.subject)}>
                Tell of it again
              </Button>
            </li>
          ))}
        </ul>
        {end.error && <Wrong error={end.error} />}
      </Panel>
    </div>
  );
}

function Subject({ of }: { of: string }) {
  if (of.includes(" ")) return <strong>{of}</strong>;
  return (
    <Link to={`/wards/${of}`} className="font-bold underline decoration-rule underline-offset-2">
      {of}
    </Link>
  );
}

function Last() {
  const all = useQuery({
    queryKey: ["alerts", "last"],
    queryFn: () => got(api.GET("/deliveries", { params: { query: { limit: 5 } } })),
  });
  if (all.error) return <Wrong error={all.error} />;
  if (!all.data) return <p className="px-3.5 py-2 text-sm text-soft">Reading the messages…</p>;
  if (all.data.items.length === 0)
    return <p className="px-3.5 py-2 text-sm text-soft">Nothing was sent yet.</p>;
  return (
    <table className="w-full text-left">
      <tbody>
        {all.data.items.map((d) => (
          <Row key={d.id} of={d} />
        ))}
      </tbody>
    </table>
  );
}

/** What was sent, and what is on its way. */
function Messages() {
  const list = useList();
  const [only, setOnly] = useState(false);
  const all = useQuery({
    queryKey: ["alerts", "messages", only, list.search, list.offset],
    queryFn: () =>
      got(api.GET("/deliveries", { params: { query: { ...list.query, undelivered: only || undefined } } })),
    placeholderData: keepPreviousData,
  });
  if (all.error && !all.data) return <Wrong error={all.error} />;
  if (!all.data) return <p className="text-soft">Reading the messages…</p>;
  const { items, total } = all.data;
  return (
    <Page
      title="Messages"
      about={
        total || list.search
          ? `${count(total, "message")} ${only ? "that did not get there, or not yet" : "of the last 30 days"}, the newest first.`
          : only
            ? "Every message got there."
            : "Nothing was sent yet."
      }
      add={
        <>
          <label className="self-center text-sm">
            <input
              type="checkbox"
              checked={only}
              onChange={(e) => {
                setOnly(e.target.checked);
                list.setOffset(0);
              }}
            />{" "}
            not delivered
          </label>
          <Link to="/alerts" className={link}>
            The alerts
          </Link>
        </>
      }
      list={list}
      total={total}
      heads={["When", "What", "To", "Arrived?"]}
    >
      {items.map((d) => (
        <Row key={d.id} of={d} whole />
      ))}
    </Page>
  );
}

function Row({ of: d, whole }: { of: Delivery; whole?: boolean }) {
  const now = useNow();
  const lines = whole ? d.lines : d.lines.slice(0, 2);
  return (
    <tr className="border-b border-rule align-baseline last:border-0" data-message={d.id}>
      <td className="px-3.5 py-2 text-sm whitespace-nowrap text-soft">{ago(d.made_at, now)}</td>
      <td className="px-3 py-2 text-sm">
        <Title of={d} />
        {lines.map((l) => (
          <span key={l} className="block text-soft">
            {l}
          </span>
        ))}
        {lines.length < d.lines.length && (
          <span className="block text-soft">and {d.lines.length - lines.length} more</span>
        )}
      </td>
      <td className="px-3 text-sm">
        {d.by_way}
        {!!d.goes_to?.length && <span className="block text-soft">{few(d.goes_to)}</span>}
        <span className="block text-soft">alert {d.alert}</span>
      </td>
      <td className="px-3 text-sm">
        <Arrived of={d} now={now} />
      </td>
    </tr>
  );
}

/** What a message says in a line; what is about one ward leads to it. */
function Title({ of: d }: { of: Delivery }) {
  const look = d.kind === "over" ? "text-soft" : "font-bold";
  const [only] = d.subjects;
  if (d.subjects.length !== 1 || !only || only.includes(" ")) return <span className={look}>{d.title}</span>;
  return (
    <Link to={`/wards/${only}`} className={`${look} underline decoration-rule underline-offset-2`}>
      {d.title}
    </Link>
  );
}

function Arrived({ of: d, now }: { of: Delivery; now: number }) {
  if (d.delivered) {
    return <span className="text-soft">delivered{d.tries > 1 && `, tried ${count(d.tries, "time")}`}</span>;
  }
  if (!d.next) {
    return (
      <>
        <span className="text-failing">▲</span> given up: {d.problem}
      </>
    );
  }
  if (!d.problem) return <span className="text-soft">on its way</span>;
  return (
    <>
      <span className="text-behind">▲</span> not yet: {d.problem}
      <span className="block text-soft">
        tried {count(d.tries, "time")}; the next{" "}
        {Date.parse(d.next) > now ? `in ${span(Date.parse(d.next) - now)}` : "now"}
      </span>
    </>
  );
}

/** Sends a message by all ways of an alert, and says what came of it. */
function Try({ name, close }: { name: string; close: () => void }) {
  const act = useMutation({
    mutationFn: () => got(api.POST("/alerts/{name}/try", { params: { path: { name } } })),
  });
  return (
    <Modal
      open
      close={close}
      title={`Try ${name}`}
      about="A message is sent by each of its ways, which says that nothing is wrong. Those who get it see who tried."
    >
      {act.error && <Wrong error={act.error} />}
      <div role="status">
        <ul className="space-y-1 text-sm">
          {act.data?.items.map((t) => (
            <li key={t.by_way}>
              {t.problem ? (
                <>
                  <span className="text-failing">▲</span> {t.by_way}: {t.problem}
                </>
              ) : (
                `${t.by_way}${t.goes_to?.length ? ` to ${few(t.goes_to)}` : ""} took it`
              )}
            </li>
          ))}
        </ul>
      </div>
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={close}>Close</Button>
        <Button strong disabled={act.isPending} onClick={() => act.mutate()}>
          {act.isPending ? "Sending…" : act.data ? "Send it again" : "Send it"}
        </Button>
      </div>
    </Modal>
  );
}
