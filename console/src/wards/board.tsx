// The board: one line a ward, what needs a person first.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useContext, useEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { type Schemas, type Ward, api, got } from "../shared/api";
import { NewWard } from "./newward";
import { Button, Choice, May, Pages, Standing, ToneGlyph, Wrong, useNow } from "../shared/parts";
import { ScaleChoice, WatchLine, marks, useScale } from "../shared/watchline";
import { ago, count, inWords, short, span } from "../shared/words";

const LIMIT = 200;

// The columns of the board; a narrow window has no room for the watch lines.
const COLUMNS =
  "grid-cols-[2rem_minmax(8rem,12rem)_minmax(0,1fr)_4rem] lg:grid-cols-[3rem_15rem_minmax(0,1fr)_20.5rem_5.5rem]";

const standings = ["in step", "behind", "drifted", "contested", "blind"] as const;
const healths = ["ready", "settling", "failing", "absent", "unknown"] as const;
const filters = ["standing", "health", "cluster", "owner", "roster", "held"] as const;

/** The filters of the board, as its address has them. */
function useFilters() {
  const [params, setParams] = useSearchParams();
  const at = (k: string) => params.get(k) ?? "";
  const query = {
    search: at("search") || undefined,
    standing: standings.find((s) => s === at("standing")),
    health: healths.find((h) => h === at("health")),
    cluster: at("cluster") || undefined,
    owner: at("owner") || undefined,
    roster: at("roster") || undefined,
    held: at("held") === "yes" || undefined,
  };
  const set = (k: string, v: string) =>
    setParams((p) => {
      if (v) p.set(k, v);
      else p.delete(k);
      return p;
    });
  const clear = () =>
    setParams((p) => {
      for (const k of filters) p.delete(k);
      return p;
    });
  return { query, at, set, clear, any: filters.some((k) => at(k)) };
}

export function Board() {
  const { query, ...filter } = useFilters();
  const search = query.search ?? "";
  const [offset, setOffset] = useState(0);
  const [by, setBy] = useState<"cluster" | "owner">(
    localStorage.getItem("vigila.group") === "owner" ? "owner" : "cluster",
  );
  const [scale] = useScale();
  const now = useNow();
  const asked = JSON.stringify([query, by]);
  useEffect(() => setOffset(0), [asked]);
  useEffect(() => {
    document.title = "Vigila";
  }, []);
  const wards = useQuery({
    queryKey: ["wards", asked, offset],
    queryFn: () =>
      got(api.GET("/wards", { params: { query: { ...query, fold: by, limit: LIMIT, offset } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 30_000,
  });
  const all = { params: { query: { limit: 1000 } } };
  const { role } = useContext(May);
  const enabled = role !== "member"; // who sees what is theirs, and not what it is kept of and in
  const clusters = useQuery({
    queryKey: ["clusters", "all"],
    queryFn: () => got(api.GET("/clusters", all)),
    enabled,
  });
  const rosters = useQuery({
    queryKey: ["rosters", "all"],
    queryFn: () => got(api.GET("/rosters", all)),
    enabled,
  });
  const kits = useQuery({ queryKey: ["kits", "all"], queryFn: () => got(api.GET("/kits", all)), enabled });
  const repos = useQuery({ queryKey: ["repos", "all"], queryFn: () => got(api.GET("/repos", all)), enabled });
  const [adding, setAdding] = useState(false);
  const table = useArrows();
  if (wards.error && !wards.data) return <Wrong error={wards.error} />;
  if (!wards.data) return <p className="text-soft">Reading the board…</p>;
  const { items, total, need_you, in_step } = wards.data;
  const loud = items.filter((w) => w.needs_you);
  const quiet = items.filter((w) => !w.needs_you);
  const labels = new Map(clusters.data?.items.map((c) => [c.name, c.labels.tier]));
  const groups = Map.groupBy(quiet, (w) => (by === "cluster" ? w.cluster : (w.owner ?? "no owner")));
  const counts = new Map(
    (wards.data.groups ?? []).filter((g) => g.by === by).map((g) => [g.name || "no owner", g]),
  );
  for (const [name, g] of counts) if (g.folded && !groups.has(name)) groups.set(name, []);
  const folded = wards.data.folded ?? 0;
  const oldest = items.map((w) => w.repository.at ?? "").sort()[0];
  const blind = (clusters.data?.items ?? []).filter((c) => !c.live.known).map((c) => c.name);

  return (
    <div ref={table}>
      <div className="flex items-start justify-between gap-4">
        <h1 className="text-2xl font-bold">{title(total, need_you, search, filter.any)}</h1>
        {enabled && !!kits.data?.total && (
          <Link
            to="/kits"
            className="mr-0 ml-auto rounded-md border border-rule bg-sheet px-3.5 py-1.5 text-sm font-bold whitespace-nowrap hover:border-soft"
            title="A service, or a component of a cluster, from a form"
          >
            New from a kit
          </Link>
        )}
        {enabled && (
          <Button
            changes
            tip="Write its ward file to a branch of the repository"
            onClick={() => setAdding(true)}
          >
            Add a ward
          </Button>
        )}
      </div>
      {adding && <NewWard close={() => setAdding(false)} />}
      <p className="mt-0.5 text-soft">
        {[
          total > 0 && `${in_step} of ${count(total, "ward")} in step.`,
          oldest && `Repositories read ${ago(oldest, now)}.`,
          blind.length > 0 && `${blind.join(", ")} can't be read.`,
          clusters.data &&
            clusters.data.items.length > blind.length &&
            `${count(clusters.data.items.length - blind.length, "cluster")} live.`,
        ]
          .filter(Boolean)
          .join(" ")}
      </p>
      {total === 0 && !search && !filter.any && enabled && <Empty />}
      {total === 0 && !search && !filter.any && !enabled && (
        <p className="mt-4">Nothing is kept yet that your teams see; vigila team list says what that is.</p>
      )}
      {(total > 10 || filter.any) && (
        <Filters
          filter={filter}
          clusters={
            clusters.data?.items.map((c) => c.name) ??
            (wards.data.groups ?? []).filter((g) => g.by === "cluster").map((g) => g.name)
          }
          rosters={(rosters.data?.items ?? []).map((r) => r.name)}
        />
      )}
      {total > 0 && (
        <>
          <div
            className={`mt-4 grid ${COLUMNS} items-end border-b border-rule px-3 pb-1.5 text-xs text-soft`}
          >
            <span />
            <span>
              Ward, by{" "}
              <button
                className="underline decoration-dotted underline-offset-2 hover:text-ink"
                title="Group the quiet wards by cluster or by owner"
                onClick={() => {
                  const next = by === "cluster" ? "owner" : "cluster";
                  localStorage.setItem("vigila.group", next);
                  setBy(next);
                }}
              >
                {by}
              </button>
            </span>
            <span className="flex items-end justify-between pr-6">
              What is going on{" "}
              <span className="hidden lg:inline">
                <ScaleChoice />
              </span>
            </span>
            <span className="hidden justify-between lg:flex">
              {marks(scale).map((m) => (
                <span key={m}>{m}</span>
              ))}
            </span>
            <span className="text-right">for</span>
          </div>
          {(repos.data?.items ?? [])
            .filter((r) => r.warning)
            .map((r) => (
              <Link
                key={r.name}
                to="/repositories"
                className="mt-2.5 block rounded-lg border border-rule bg-lamp-sheet px-4 py-2 hover:border-soft"
              >
                repository <strong>{r.name}</strong>: {r.warning}
              </Link>
            ))}
          <Rosters items={rosters.data?.items ?? []} />
          <div className="mt-2.5 space-y-1.5">
            {loud.map((w) => (
              <Line key={w.id} ward={w} now={now} loud />
            ))}
          </div>
          {[...groups].sort().map(([name, list]) => (
            <section key={name} aria-label={name} className="mt-5">
              <h2 className="mb-0.5 px-3 text-sm font-bold text-soft">
                {name}
                {by === "cluster" && labels.get(name) && `, ${labels.get(name)}`} ·{" "}
                {groupCount(list, counts.get(name))}
              </h2>
              {list.map((w) => (
                <Line key={w.id} ward={w} now={now} cluster={by === "owner"} />
              ))}
              {!!counts.get(name)?.folded && (
                <Folded key={asked} group={counts.get(name)!} name={name} query={query} now={now} />
              )}
            </section>
          ))}
          <Pages total={total - folded} limit={LIMIT} offset={offset} go={setOffset} />
        </>
      )}
    </div>
  );
}

type Filtering = Omit<ReturnType<typeof useFilters>, "query">;

/** What of the board is shown. */
function Filters({
  filter: f,
  clusters,
  rosters,
}: {
  filter: Filtering;
  clusters: string[];
  rosters: string[];
}) {
  const everything = useQuery({
    queryKey: ["wards", "owners"],
    queryFn: () => got(api.GET("/wards", { params: { query: { limit: 1 } } })),
  });
  const owners = (everything.data?.groups ?? []).filter((g) => g.by === "owner" && g.name).map((g) => g.name);
  return (
    <div
      role="group"
      aria-label="Filters"
      className="mt-3 flex flex-wrap items-center gap-x-4 gap-y-2 text-sm"
    >
      <Choice label="Standing" value={f.at("standing")} of={standings} set={(v) => f.set("standing", v)} />
      <Choice label="Health" value={f.at("health")} of={healths} set={(v) => f.set("health", v)} />
      <Choice label="Cluster" value={f.at("cluster")} of={clusters} set={(v) => f.set("cluster", v)} />
      {owners.length > 0 && (
        <Choice label="Owner" value={f.at("owner")} of={owners.sort()} set={(v) => f.set("owner", v)} />
      )}
      {rosters.length > 1 && (
        <Choice label="Roster" value={f.at("roster")} of={rosters} set={(v) => f.set("roster", v)} />
      )}
      <label className="inline-flex items-center gap-1.5">
        <input
          type="checkbox"
          checked={f.at("held") === "yes"}
          onChange={(e) => f.set("held", e.target.checked ? "yes" : "")}
        />
        <span className="text-soft">held only</span>
      </label>
      {f.any && (
        <button className="underline decoration-dotted underline-offset-2 hover:text-ink" onClick={f.clear}>
          All wards
        </button>
      )}
    </div>
  );
}

/** One line for the quiet wards of a group, with the watch line that they share; it opens to a line for each. */
function Folded({
  group: g,
  name,
  query,
  now,
}: {
  group: Schemas["WardGroup"];
  name: string;
  query: ReturnType<typeof useFilters>["query"];
  now: number;
}) {
  const [open, setOpen] = useState(false);
  const [offset, setOffset] = useState(0);
  const list = useQuery({
    queryKey: ["wards", "folded", query, g.by, g.name, offset],
    enabled: open,
    queryFn: () =>
      got(
        api.GET("/wards", {
          params: { query: { ...query, [g.by]: g.name || undefined, quiet: true, limit: LIMIT, offset } },
        }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: 30_000,
  });
  const items = (list.data?.items ?? []).filter((w) => g.by !== "owner" || (w.owner ?? "") === g.name);
  const watch = g.watch ?? [];
  const since = watch.at(-1)?.from;
  return (
    <>
      <button
        aria-expanded={open}
        data-folded={name}
        onClick={() => setOpen(!open)}
        className={`grid min-h-9 w-full ${COLUMNS} items-center border-b border-rule px-3 text-left hover:bg-sheet`}
      >
        <span className="pl-1.5">
          <Standing is="in step" />
        </span>
        <span className="truncate pr-2">
          <strong>{count(g.folded ?? 0, "ward")}</strong>
        </span>
        <span className="truncate pr-6 text-soft">in step and ready; {open ? "fold them" : "show each"}</span>
        <span className="hidden lg:block">
          <WatchLine
            ward={{ id: `the quiet wards of ${name}`, standing: "in step", watch, runs: [] }}
            now={now}
            height={16}
          />
        </span>
        <span className="text-right text-soft">{since ? span(now - Date.parse(since)) : ""}</span>
      </button>
      {open && list.error && <Wrong error={list.error} />}
      {open && items.map((w) => <Line key={w.id} ward={w} now={now} cluster={g.by === "owner"} />)}
      {open && <Pages total={list.data?.total ?? 0} limit={LIMIT} offset={offset} go={setOffset} />}
    </>
  );
}

/** The rosters' own lines: their standing is theirs alone, that of their wards is on the lines below. */
function Rosters({ items }: { items: Schemas["Roster"][] }) {
  const loud = items.filter((r) => r.needs_you);
  const quiet = items.filter((r) => !r.needs_you);
  return (
    <>
      {loud.map((r) => (
        <Link
          key={r.name}
          to="/rosters"
          data-roster={r.name}
          className="mt-2.5 grid min-h-12 grid-cols-[2rem_minmax(8rem,12rem)_minmax(0,1fr)] items-center rounded-lg lg:grid-cols-[3rem_15rem_minmax(0,1fr)] border border-rule bg-sheet px-3 py-0.5 hover:border-soft"
        >
          <span className="pl-1.5 text-xl">
            <Standing is={r.standing} />
          </span>
          <span>
            roster <strong>{r.name}</strong>
          </span>
          <span className="line-clamp-2 leading-snug" title={r.says}>
            {r.says}
          </span>
        </Link>
      ))}
      {quiet.length > 0 && (
        <p className="mt-2 px-3 text-sm text-soft">
          {quiet.map((r) => (
            <Link key={r.name} to="/rosters" className="mr-4 hover:text-ink" title={r.says}>
              roster <strong>{r.name}</strong> <Standing is={r.standing} word />
            </Link>
          ))}
        </p>
      )}
    </>
  );
}

/** Counts what matches on all pages, not what this page shows of it. */
function groupCount(list: Ward[], all?: Schemas["WardGroup"]): string {
  const step = all?.in_step ?? list.filter((w) => w.standing === "in step").length;
  const total = all?.total ?? list.length;
  return step === total ? `${step} in step` : `${step} of ${total} in step`;
}

function title(total: number, needs: number, search: string, filtered: boolean): string {
  if (total === 0 && filtered) return "No ward matches these filters";
  if (total === 0) return search ? `No ward matches “${search}”` : "No wards yet";
  if (search) return `${count(total, "ward")} ${total === 1 ? "matches" : "match"} “${search}”`;
  if (needs === 0) return "All is well";
  return `${inWords(needs)} ward${needs === 1 ? " needs" : "s need"} you`;
}

function Line({
  ward: w,
  now,
  loud,
  cluster,
}: {
  ward: Ward;
  now: number;
  loud?: boolean;
  cluster?: boolean;
}) {
  const look = w.loudest
    ? "rounded-lg border-2 border-failing bg-lamp-sheet font-bold"
    : loud
      ? "rounded-lg border border-rule bg-sheet hover:border-soft"
      : "border-b border-rule hover:bg-sheet";
  return (
    <Link
      to={`/wards/${w.id}`}
      data-ward={w.id}
      className={`grid ${COLUMNS} items-center px-3 ${loud ? "min-h-12 py-0.5" : "min-h-9"} ${look}`}
    >
      <span className="pl-1.5">
        <ToneGlyph ward={w} />
      </span>
      <span className="truncate pr-2">
        <strong>{w.name}</strong>
        {(loud || cluster) && <span className="text-soft"> @{w.cluster}</span>}
      </span>
      <span
        className={`min-w-0 pr-6 ${loud ? "line-clamp-2 leading-snug" : "truncate text-soft"}`}
        title={w.says}
      >
        <Says ward={w} loud={loud} />
      </span>
      <span className="hidden lg:block">
        <WatchLine ward={w} now={now} height={16} />
      </span>
      <span className="text-right text-soft">{w.since ? span(now - Date.parse(w.since)) : ""}</span>
    </Link>
  );
}

/** The sentence of a ward, with who caused it in bold and hashes in mono. */
function Says({ ward: w, loud }: { ward: Ward; loud?: boolean }) {
  if (w.run) {
    return (
      <>
        <span aria-hidden>◐ </span>
        {w.says}
      </>
    );
  }
  const m = /^(\S+) (changed|removed|undid|added|deleted) (.*)$/.exec(w.says);
  if (loud && m) {
    return (
      <>
        <strong>{m[1]}</strong> {m[2]} {m[3]}
      </>
    );
  }
  const rev = w.applied ?? w.revision;
  if (!loud && rev && w.says.startsWith(short(rev))) {
    return (
      <>
        <span className="font-mono text-sm">{short(rev)}</span> {rev.subject}
      </>
    );
  }
  return <>{w.says}</>;
}

function Empty() {
  return (
    <div className="mt-6 max-w-2xl rounded-lg border border-rule bg-sheet p-6">
      <p>
        A ward is a path of a repository, kept in a cluster; a roster is a path that holds ward files. To keep
        the first ones:
      </p>
      <pre
        tabIndex={0}
        className="mt-3 overflow-auto font-mono text-sm leading-relaxed"
      >{`vigila repo add moorings https://git.brindle.example/moorings.git
vigila cluster add quay --kubeconfig ~/.kube/config
vigila roster add moorings --repo moorings --path wards`}</pre>
    </div>
  );
}

/** Lets the arrow keys move along the board's lines; Enter opens one, as a link does. */
function useArrows() {
  const root = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const down = (e: KeyboardEvent) => {
      if (e.key !== "ArrowDown" && e.key !== "ArrowUp") return;
      const lines = [...(root.current?.querySelectorAll<HTMLElement>("[data-ward]") ?? [])];
      if (lines.length === 0) return;
      e.preventDefault();
      const at = lines.indexOf(document.activeElement as HTMLElement);
      const next = e.key === "ArrowDown" ? at + 1 : at < 0 ? lines.length - 1 : at - 1;
      lines[Math.min(Math.max(next, 0), lines.length - 1)]?.focus();
    };
    addEventListener("keydown", down);
    return () => removeEventListener("keydown", down);
  }, []);
  return root;
}
