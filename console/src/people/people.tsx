// Who is signed in, by which providers people sign in, and the tokens of machines.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Schemas, api, got } from "../shared/api";
import { Forget, Page, useList } from "../shared/lists";
import { Menu, Wrong, useNow } from "../shared/parts";
import { ago, count, moment, span } from "../shared/words";

export function PeoplePage() {
  const me = useQuery({ queryKey: ["me"], queryFn: () => got(api.GET("/me")) });
  const admin = me.data?.role === "admin";
  return (
    <>
      <Sessions all={admin} />
      {me.data && me.data.role !== "member" && <Teams admin={admin} />}
      {admin && <Providers />}
      {admin && <Tokens />}
      {me.data && !admin && (
        <p className="mt-8 text-sm text-soft">
          You see your own sessions. An admin sees everybody's, the providers and the tokens.
        </p>
      )}
    </>
  );
}

function Sessions({ all }: { all: boolean }) {
  const list = useList();
  const now = useNow();
  const [gone, setGone] = useState<Schemas["Session"]>();
  const sessions = useQuery({
    queryKey: ["sessions", list.search, list.offset],
    queryFn: () => got(api.GET("/sessions", { params: { query: list.query } })),
    placeholderData: keepPreviousData,
    refetchInterval: 30_000,
  });
  if (sessions.error && !sessions.data) return <Wrong error={sessions.error} />;
  if (!sessions.data) return <p className="text-soft">Reading who is signed in…</p>;
  const { items, total } = sessions.data;
  return (
    <>
      <Page
        title="People"
        things="sessions"
        about={
          all
            ? `${count(total, "session")} of people who are signed in; whoever was here last is first.`
            : `${count(total, "session")} of yours.`
        }
        list={list}
        total={total}
        heads={["Who", "Through", "Last here", "Ends"]}
      >
        {items.map((x) => (
          <tr key={x.id} className="border-b border-rule align-baseline" data-session={x.id}>
            <td className="px-3 py-2">
              <strong>{x.name}</strong>
              {x.you && <span className="text-soft"> (you, here)</span>}
              <span className="block text-sm text-soft">
                {x.role}
                {x.groups && x.groups.length > 0 && `; in ${x.groups.join(", ")}`}
              </span>
            </td>
            <td className="px-3 text-sm">
              {x.through}
              {x.address && <span className="block text-soft">from {x.address}</span>}
            </td>
            <td className="px-3 text-sm" title={moment(x.used)}>
              {ago(x.used, now)}
              <span className="block text-soft">signed in {ago(x.made, now)}</span>
            </td>
            <td className="px-3 text-sm" title={moment(x.expires)}>
              in {span(Date.parse(x.expires) - now)}
            </td>
            <td className="py-1.5 text-right">
              <Menu label="Sign out" items={[["Sign them out", () => setGone(x)]]} />
            </td>
          </tr>
        ))}
      </Page>
      {gone && (
        <Forget
          what={`the session of ${gone.name}`}
          about="They are signed out at once, and may sign in again."
          key_="sessions"
          close={() => setGone(undefined)}
          act={() => got(api.DELETE("/sessions/{name}", { params: { path: { name: gone.id } } }))}
        />
      )}
    </>
  );
}

/** A list of a few, without search. */
function Few({ title, about, children }: { title: string; about: string; children: React.ReactNode }) {
  return (
    <section className="mt-10">
      <h2 className="text-lg font-bold">{title}</h2>
      <p className="mt-1 mb-3 text-soft">{about}</p>
      {children}
    </section>
  );
}

/** What may be done to what, in a line. */
const rights = (r: Schemas["Rights"]) =>
  `${r.verbs.join(", ")}: ${(
    [
      ["wards", r.of_wards],
      ["wards of owner", r.of_owners],
      ["in cluster", r.of_clusters],
      ["of roster", r.of_rosters],
      ["lanes", r.of_lanes],
      ["at", r.at_stops],
      ["guards", r.of_guards],
      ["by kit", r.by_kits],
      ["of repository", r.of_repos],
    ] as const
  )
    .filter(([, all]) => all && all.length > 0)
    .map(([what, all]) => `${what} ${all!.join(" or ")}`)
    .join(", ")}`;

function Teams({ admin }: { admin: boolean }) {
  const [gone, setGone] = useState<string>();
  const [offset, setOffset] = useState(0);
  const teams = useQuery({
    queryKey: ["teams", offset],
    queryFn: () => got(api.GET("/teams", { params: { query: { limit: 100, offset } } })),
    placeholderData: keepPreviousData,
  });
  if (teams.error) return <Wrong error={teams.error} />;
  const { items, total } = teams.data ?? { items: [], total: 0 };
  return (
    <Few
      title="Teams"
      about={
        total > 0
          ? "Who is in one, and has no role, sees what it may see and nothing else; vigila team add changes them."
          : "There are no teams: whoever signs in has a role, or may nothing. The first: vigila team add FILE"
      }
    >
      {items.map((t) => (
        <div
          key={t.name}
          className="flex items-baseline gap-4 border-b border-rule px-3 py-2"
          data-team={t.name}
        >
          <div className="min-w-0 flex-1">
            <strong>{t.name}</strong> <span className="text-sm text-soft">{t.about}</span>
            <span className="block text-sm break-words text-soft">{t.members.join(", ")}</span>
          </div>
          <ul className="flex-1 text-sm">
            {t.rights.map((r) => (
              <li key={rights(r)}>{rights(r)}</li>
            ))}
          </ul>
          {admin && <Menu label="Forget" items={[["Forget it", () => setGone(t.name)]]} />}
        </div>
      ))}
      <More total={total} shown={items.length} offset={offset} go={setOffset} />
      {gone && (
        <Forget
          what={`team ${gone}`}
          about="What it gave is gone at once; its people may what else is given to them."
          key_="teams"
          close={() => setGone(undefined)}
          act={() => got(api.DELETE("/teams/{name}", { params: { path: { name: gone } } }))}
        />
      )}
    </Few>
  );
}

/** The other pages of a list of a few. */
function More({
  total,
  shown,
  offset,
  go,
}: {
  total: number;
  shown: number;
  offset: number;
  go: (n: number) => void;
}) {
  if (total <= shown) return null;
  return (
    <p className="mt-2 text-sm">
      {offset + 1} to {offset + shown} of {total}.{" "}
      <button className="underline" disabled={offset === 0} onClick={() => go(Math.max(0, offset - 100))}>
        Before
      </button>{" "}
      <button className="underline" disabled={offset + 100 >= total} onClick={() => go(offset + 100)}>
        After
      </button>
    </p>
  );
}

function Providers() {
  const [gone, setGone] = useState<string>();
  const providers = useQuery({ queryKey: ["providers"], queryFn: () => got(api.GET("/providers")) });
  if (providers.error) return <Wrong error={providers.error} />;
  const items = providers.data?.items ?? [];
  return (
    <Few
      title="Providers"
      about={
        items.length > 0
          ? "They say who somebody is and in which groups; vigila provider add says who has which role."
          : "Nobody signs in by a provider yet. The first: vigila provider add NAME ISSUER --client ID"
      }
    >
      {items.map((p) => (
        <div
          key={p.name}
          className="flex items-baseline gap-4 border-b border-rule px-3 py-2"
          data-provider={p.name}
        >
          <div className="min-w-0 flex-1">
            <strong>{p.name}</strong> <span className="font-mono text-sm break-all">{p.issuer}</span>
            <span className="block text-sm text-soft">{p.about}</span>
          </div>
          <dl className="grid flex-1 grid-cols-[6rem_1fr] text-sm">
            {(
              [
                ["admins", p.admins],
                ["operators", p.operators],
                ["readers", p.readers],
              ] as const
            ).map(
              ([role, who]) =>
                who &&
                who.length > 0 && (
                  <div key={role} className="contents">
                    <dt className="text-soft">{role}</dt>
                    <dd className="break-words">{who.join(", ")}</dd>
                  </div>
                ),
            )}
          </dl>
          <Menu label="Forget" items={[["Forget it", () => setGone(p.name)]]} />
        </div>
      ))}
      {gone && (
        <Forget
          what={gone}
          about="Nobody signs in by it any more, and who had is signed out."
          key_="providers"
          close={() => setGone(undefined)}
          act={() => got(api.DELETE("/providers/{name}", { params: { path: { name: gone } } }))}
        />
      )}
    </Few>
  );
}

function Tokens() {
  const now = useNow();
  const [gone, setGone] = useState<string>();
  const [offset, setOffset] = useState(0);
  const tokens = useQuery({
    queryKey: ["tokens", offset],
    queryFn: () => got(api.GET("/tokens", { params: { query: { limit: 100, offset } } })),
    placeholderData: keepPreviousData,
  });
  if (tokens.error) return <Wrong error={tokens.error} />;
  const { items, total } = tokens.data ?? { items: [], total: 0 };
  return (
    <Few
      title="Tokens"
      about={`${count(total, "token")}, of machines and of who started this service; vigila token make makes one.`}
    >
      {items.map((t) => (
        <div
          key={t.name}
          className="flex items-baseline gap-4 border-b border-rule px-3 py-2 text-sm"
          data-token={t.name}
        >
          <strong className="flex-1">{t.name}</strong>
          <span className="w-80 break-words">{t.rights ? t.rights.map(rights).join("; ") : t.role}</span>
          <span className="w-44 text-soft">{t.used ? `used ${ago(t.used, now)}` : "never used"}</span>
          <span className="w-40 text-soft">
            {!t.expires
              ? "does not end"
              : Date.parse(t.expires) <= now
                ? "has ended"
                : `ends in ${span(Date.parse(t.expires) - now)}`}
          </span>
          <Menu label="End it" items={[["End it", () => setGone(t.name)]]} />
        </div>
      ))}
      <More total={total} shown={items.length} offset={offset} go={setOffset} />
      {gone && (
        <Forget
          what={`token ${gone}`}
          about="Whoever uses it is signed out at once, and so are the sessions that it opened."
          key_="tokens"
          close={() => setGone(undefined)}
          act={() => got(api.DELETE("/tokens/{name}", { params: { path: { name: gone } } }))}
        />
      )}
    </Few>
  );
}
