// One lane: its picture, what letting a lot in would bring, and the way of each lot.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useContext, useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { EffectOf } from "../proposals/proposal";
import { type Schemas, api, got } from "../shared/api";
import {
  Button,
  Choice,
  type Item,
  May,
  Menu,
  Modal,
  Pages,
  Panel,
  Reason,
  Wrong,
  useNow,
} from "../shared/parts";
import { ago, count } from "../shared/words";
import { Says, failed } from "./page";
import { Picture, type Stop } from "./picture";

type Lane = Schemas["Lane"];
type Asked =
  | { what: "let in"; stop: string; lot?: number }
  | { what: "hold" | "release"; stop: string }
  | { what: "compare" };

export function LanePage() {
  const name = useParams().name ?? "";
  const now = useNow();
  const [asked, ask] = useState<Asked>();
  const { role } = useContext(May);
  const lane = useQuery({
    queryKey: ["lanes", "one", name],
    queryFn: () => got(api.GET("/lanes/{name}", { params: { path: { name } } })),
    refetchInterval: 30_000,
  });
  useEffect(() => {
    document.title = `${name} · Lanes · Vigila`;
  }, [name]);
  if (lane.error && !lane.data) return <Wrong error={lane.error} />;
  const l = lane.data;
  if (!l) return <p className="text-soft">Reading the lane…</p>;
  const offered =
    l.stops.find((s) => s.offer && !s.together && s.needs_you) ?? l.stops.find((s) => s.offer && !s.together);
  const close = () => ask(undefined);
  const to = (l.you_promote_to ?? []).length > 0 ? (["promote"] as const) : [];
  return (
    <May value={{ role, to: [...to] }}>
      <div className="flex flex-wrap items-start justify-between gap-4 sm:flex-nowrap">
        <div className="min-w-0">
          <p className="text-sm text-soft">
            <Link to="/lanes" className="underline">
              Lanes
            </Link>{" "}
            / <span className="font-mono">{l.declared_at}</span> of roster {l.roster}
          </p>
          <h1 className="mt-1 text-2xl font-bold">{l.name}</h1>
          <p className="text-lg" data-says>
            <Says text={l.says} loud={l.needs_you} bad={failed(l)} />
          </p>
          <p className="text-soft">
            {l.about ? `${l.about} ` : ""}Carries{" "}
            <span className="font-mono text-sm">{l.carries.join(", ")}</span> on {l.repo} {l.ref}
          </p>
        </div>
        <div className="flex shrink-0 gap-2">
          {l.stops.length > 1 && <Button onClick={() => ask({ what: "compare" })}>Compare stops</Button>}
          <Menu label="More" items={more(l, ask)} />
        </div>
      </div>
      <Picture
        lane={l}
        now={now}
        actions={(s) => <OfferActions s={s} letIn={() => ask({ what: "let in", stop: s.name })} />}
      />
      {offered?.offer && <Brings lane={l} stop={offered} />}
      <Lots lane={l} now={now} />
      {asked?.what === "let in" && <LetIn lane={l} stop={asked.stop} first={asked.lot} close={close} />}
      {(asked?.what === "hold" || asked?.what === "release") && (
        <Hold lane={l} stop={asked.stop} release={asked.what === "release"} close={close} />
      )}
      {asked?.what === "compare" && <Compare lane={l} close={close} />}
    </May>
  );
}

function more(l: Lane, ask: (a: Asked) => void): Item[] {
  return l.stops.flatMap((s) => {
    const items: Item[] = [
      [
        s.comes_after.length === 0
          ? `Take ${s.name} back to an earlier lot…`
          : `Let another lot in at ${s.name}…`,
        () =>
          ask({ what: "let in", stop: s.name, lot: s.offer?.lot ?? Math.max(1, (s.passage?.lot ?? 2) - 1) }),
      ],
    ];
    if (s.comes_after.length > 0) {
      items.push([
        s.held_by ? `Release ${s.name}…` : `Hold ${s.name}…`,
        () => ask({ what: s.held_by ? "release" : "hold", stop: s.name }),
        "promote",
      ]);
    }
    return items;
  });
}

function OfferActions({ s, letIn }: { s: Stop; letIn: () => void }) {
  if (s.proposal) {
    return (
      <Link
        to={`/proposals/${s.proposal}`}
        className="rounded-md border border-ink bg-ink px-3.5 py-1.5 text-sm font-bold text-paper hover:opacity-90"
      >
        Review #{s.proposal}
      </Link>
    );
  }
  return (
    <Button strong={s.needs_you} onClick={letIn}>
      Review and let it in
    </Button>
  );
}

function usePreview(lane: string, stop: string, lot: number | undefined, only: boolean, on = true) {
  return useQuery({
    queryKey: ["lanes", "preview", lane, stop, lot, only],
    enabled: on,
    staleTime: 30_000,
    queryFn: () =>
      got(
        api.GET("/lanes/{name}/preview", {
          params: { path: { name: lane }, query: { stop, lot, only_this: only } },
        }),
      ),
  });
}

/** What a lot changes: its own, and apart what would come along. */
function Changes({ of, lot }: { of: Schemas["LotChange"][]; lot: number }) {
  const own = of.filter((c) => !c.unseen);
  const along = of.filter((c) => c.unseen);
  return (
    <>
      {own.length > 0 && (
        <ul className="space-y-1 px-3.5 py-2.5">
          {own.map((c) => (
            <One key={`${c.path} ${c.of}`} c={c} />
          ))}
        </ul>
      )}
      {along.length > 0 && (
        <div className="border-l-4 border-drifted px-3 py-2.5" data-along>
          <p className="font-bold">Comes along with lot {lot}</p>
          <ul className="mt-1 space-y-1">
            {along.map((c) => (
              <One key={`${c.path} ${c.of}`} c={c} />
            ))}
          </ul>
        </div>
      )}
    </>
  );
}

function One({ c }: { c: Schemas["LotChange"] }) {
  return (
    <li className="flex flex-wrap items-baseline gap-x-3">
      <span className="font-mono text-sm break-all">{c.of ?? c.path}</span>
      <strong>{c.says}</strong>
      {c.whose && <span className="text-sm text-soft">{c.whose}</span>}
    </li>
  );
}

function Brings({ lane, stop }: { lane: Lane; stop: Stop }) {
  const lot = stop.offer!.lot;
  const preview = usePreview(lane.name, stop.name, lot, false);
  return (
    <div className="mt-6">
      <Panel title={`What letting lot ${lot} in at ${stop.name} would bring`}>
        {preview.data?.stops_changed.map((s) => (
          <section key={s.stop} aria-label={s.stop}>
            {preview.data.stops_changed.length > 1 && (
              <h3 className="px-3.5 pt-2.5 text-sm text-soft">At {s.stop}</h3>
            )}
            <Changes of={s.changes} lot={lot} />
          </section>
        ))}
        {preview.isLoading && (
          <p className="px-3.5 py-2.5 text-soft">Rendering both sides, and trying it out…</p>
        )}
        {preview.error && (
          <div className="px-3.5">
            <Wrong error={preview.error} />
          </div>
        )}
      </Panel>
      {preview.data?.effect && (
        <EffectOf
          e={preview.data.effect}
          again={() => void preview.refetch()}
          busy={preview.isFetching}
          at={ago(new Date(preview.dataUpdatedAt).toISOString(), Date.now())}
        />
      )}
    </div>
  );
}

function useChange(close: () => void) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (f: () => Promise<unknown>) => f(),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["lanes"] });
      void client.invalidateQueries({ queryKey: ["proposals"] });
      close();
    },
  });
}

function Buttons({ close, children }: { close: () => void; children: ReactNode }) {
  return (
    <div className="mt-5 flex justify-end gap-2">
      <Button onClick={close}>Leave it</Button>
      {children}
    </div>
  );
}

function LetIn({
  lane,
  stop,
  first,
  close,
}: {
  lane: Lane;
  stop: string;
  first?: number;
  close: () => void;
}) {
  const s = lane.stops.find((x) => x.name === stop);
  const [lot, setLot] = useState(first ?? s?.offer?.lot ?? 0);
  const [only, setOnly] = useState(false);
  const [why, setWhy] = useState("");
  const lots = useQuery({
    queryKey: ["lanes", "lots", lane.name, "all"],
    queryFn: () =>
      got(api.GET("/lanes/{name}/lots", { params: { path: { name: lane.name }, query: { limit: 200 } } })),
  });
  const preview = usePreview(lane.name, stop, lot || undefined, only, lot > 0);
  const act = useChange(close);
  const p = preview.data;
  const needs = (p?.against.length ?? 0) > 0;
  return (
    <Modal
      open
      close={close}
      wide
      title={`Let a lot in at ${stop}`}
      about={
        p?.by_proposal
          ? "It is proposed, and let in by whoever merges it."
          : "It is written to the repository at once, as a commit."
      }
    >
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2 text-sm">
        <Choice
          label="Lot"
          value={lot ? String(lot) : ""}
          any="choose"
          of={(lots.data?.items ?? []).map((x) => [String(x.number), `${x.number}  ${x.subject}`])}
          set={(v) => setLot(Number(v))}
        />
        <label className="inline-flex items-center gap-1.5">
          <input type="checkbox" checked={only} onChange={(e) => setOnly(e.target.checked)} /> its own change
          alone
        </label>
      </div>
      {preview.error && <Wrong error={preview.error} />}
      {preview.isLoading && <p className="mt-3 text-soft">Rendering both sides, and trying it out…</p>}
      {p?.nothing && <p className="mt-3">{stop} has all of it already.</p>}
      {p && !p.nothing && (
        <div className="mt-3 rounded-md border border-rule">
          {p.stops_changed.map((x) => (
            <section key={x.stop} aria-label={x.stop}>
              <h3 className="px-3.5 pt-2.5 text-sm text-soft">At {x.stop}</h3>
              <Changes of={x.changes} lot={p.lot} />
            </section>
          ))}
        </div>
      )}
      {p?.effect && (
        <p className="mt-3 text-sm text-soft">
          {p.effect.effects.length === 0
            ? "It changes no ward."
            : `It changes ${p.effect.effects.map((w) => `${w.ward} (${count(w.objects.length, "object")})`).join(", ")}.`}
        </p>
      )}
      {p?.effect?.effects
        .flatMap((w) => [
          ...(w.problem ? [`${w.ward} could not be read any more: ${w.problem}`] : []),
          ...w.guards.map((g) => `Guard ${g.name} would stop ${w.ward}: ${g.text}`),
          ...w.refusals.map((r) => `${r.kind} ${r.name} of ${w.ward} would be refused: ${r.says}`),
        ])
        .map((x) => (
          <Against key={x} text={x} />
        ))}
      {p?.against.map((x) => (
        <Against key={x} text={`Against it: ${x}`} />
      ))}
      {needs && <Reason value={why} set={setWhy} />}
      {act.error && <Wrong error={act.error} />}
      <Buttons close={close}>
        <Button
          changes="promote"
          strong
          disabled={!p || p.nothing || act.isPending || (needs && !why.trim())}
          onClick={() =>
            act.mutate(() =>
              got(
                api.POST("/lanes/{name}/promote", {
                  params: { path: { name: lane.name } },
                  body: { stop, lot: p!.lot, only_this: only, why, seen: p!.seen },
                }),
              ),
            )
          }
        >
          {p?.by_proposal
            ? "Propose it"
            : p?.unseen && !only
              ? "Let it in with what comes along"
              : "Let it in"}
        </Button>
      </Buttons>
    </Modal>
  );
}

function Against({ text }: { text: string }) {
  return (
    <p className="mt-2 break-words">
      <span aria-hidden className="mr-2 text-failing">
        ▲
      </span>
      {text}
    </p>
  );
}

function Hold({
  lane,
  stop,
  release,
  close,
}: {
  lane: Lane;
  stop: string;
  release: boolean;
  close: () => void;
}) {
  const [why, setWhy] = useState("");
  const act = useChange(close);
  const send = () => {
    const call = { params: { path: { name: lane.name } }, body: { stop, why } };
    return got(release ? api.POST("/lanes/{name}/release", call) : api.POST("/lanes/{name}/hold", call));
  };
  return (
    <Modal
      open
      close={close}
      title={release ? `Release ${stop}?` : `Hold ${stop}?`}
      about={
        release
          ? "What is offered to it is let in again as its lane says."
          : "No lot is let in by itself, and none proposed, until somebody releases it. A person still may, with a reason. Its wards go on."
      }
    >
      {!release && <Reason value={why} set={setWhy} />}
      {act.error && <Wrong error={act.error} />}
      <Buttons close={close}>
        <Button
          changes="promote"
          strong
          disabled={act.isPending || (!release && !why.trim())}
          onClick={() => act.mutate(send)}
        >
          {release ? "Release it" : "Hold it"}
        </Button>
      </Buttons>
    </Modal>
  );
}

function Compare({ lane, close }: { lane: Lane; close: () => void }) {
  const names = lane.stops.map((s) => s.name);
  const [one, setOne] = useState(names[0]!);
  const [other, setOther] = useState(names[1]!);
  const found = useQuery({
    queryKey: ["lanes", "compare", lane.name, one, other],
    enabled: one !== other && !!one && !!other,
    queryFn: () =>
      got(api.GET("/lanes/{name}/compare", { params: { path: { name: lane.name }, query: { one, other } } })),
  });
  const x = found.data;
  return (
    <Modal
      open
      close={close}
      wide
      title="Compare stops"
      about="Of what the lane carries; what is a stop's own does not count."
    >
      <div className="flex flex-wrap gap-x-5 gap-y-2 text-sm">
        <Choice label="From" value={one} of={names} any="choose" set={setOne} />
        <Choice label="to" value={other} of={names} any="choose" set={setOther} />
      </div>
      {one === other && <p className="mt-3 text-soft">Choose two stops.</p>}
      {found.error && <Wrong error={found.error} />}
      {found.isLoading && <p className="mt-3 text-soft">Rendering both sides…</p>}
      {x && x.changes.length === 0 && (
        <p className="mt-3">
          {one} and {other} have the same of all that is carried.
        </p>
      )}
      {x && x.changes.length > 0 && (
        <>
          <ul className="mt-3 space-y-1">
            {x.changes.map((c) => (
              <One key={`${c.path} ${c.of}`} c={c} />
            ))}
          </ul>
          <p className="mt-4 text-soft">
            With all that {one} has, at {other}:
          </p>
          {x.effect && (
            <EffectOf
              e={x.effect}
              again={() => void found.refetch()}
              busy={found.isFetching}
              at={ago(new Date(found.dataUpdatedAt).toISOString(), Date.now())}
            />
          )}
        </>
      )}
      <div className="mt-5 flex justify-end">
        <Button onClick={close}>Close</Button>
      </div>
    </Modal>
  );
}

const LIMIT = 20;

/** The lots, the newest first, each with its way through the stops. */
function Lots({ lane, now }: { lane: Lane; now: number }) {
  const [search, setSearch] = useState("");
  const [offset, setOffset] = useState(0);
  const lots = useQuery({
    queryKey: ["lanes", "lots", lane.name, search, offset],
    queryFn: () =>
      got(
        api.GET("/lanes/{name}/lots", {
          params: { path: { name: lane.name }, query: { search, limit: LIMIT, offset } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  if (lots.error && !lots.data) return <Wrong error={lots.error} />;
  if (!lots.data) return null;
  const { items, total } = lots.data;
  return (
    <div className="mt-6">
      <div className="flex items-end justify-between gap-4">
        <h2 className="text-lg font-bold">Lots</h2>
        <input
          type="search"
          aria-label="Search the lots"
          placeholder="subject, author, image or version"
          className="w-64 rounded-md border border-rule bg-sheet px-2.5 py-1 text-sm placeholder:text-soft"
          value={search}
          onChange={(e) => {
            setSearch(e.target.value);
            setOffset(0);
          }}
        />
      </div>
      {items.length === 0 ? (
        <p className="mt-2 text-soft">
          {search
            ? `None with “${search}”.`
            : "None has begun: nothing that is carried is at a first stop yet."}
        </p>
      ) : (
        <table className="mt-2 w-full text-left">
          <thead className="border-b border-rule text-xs text-soft">
            <tr>
              {["Lot", "What it brings", ...lane.stops.map((s) => s.name)].map((h) => (
                <th key={h} className="px-3 pb-1.5 font-normal">
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {items.map((x) => (
              <tr key={x.number} className="border-b border-rule align-baseline" data-lot={x.number}>
                <td className="px-3 py-2 font-bold">{x.number}</td>
                <td className="px-3 py-2">
                  <LotOf x={x} now={now} />
                </td>
                {lane.stops.map((s) => (
                  <td key={s.name} className="px-3 text-sm whitespace-nowrap">
                    <Passed way={x.way.filter((w) => w.stop === s.name)} now={now} />
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Pages total={total} limit={LIMIT} offset={offset} go={setOffset} />
    </div>
  );
}

function LotOf({ x, now }: { x: Schemas["Lot"]; now: number }) {
  const commits = x.brings ?? [];
  return (
    <details className="min-w-0">
      <summary className="cursor-pointer">
        {x.subject}{" "}
        <span className="text-sm text-soft">
          {commits.length > 1 && `and ${count(commits.length - 1 + (x.more ?? 0), "commit")} more, `}
          {x.author && `${x.author}, `}
          {ago(x.at, now)}
        </span>
      </summary>
      <ul className="mt-1.5 space-y-1 text-sm">
        {x.changes?.map((c) => (
          <One key={`${c.path} ${c.of}`} c={c} />
        ))}
      </ul>
      {commits.length > 1 && (
        <ul className="mt-1.5 space-y-0.5 text-sm text-soft">
          {commits.map((c) => (
            <li key={c.commit}>
              <span className="font-mono">{c.commit.slice(0, 7)}</span> {c.subject}
            </li>
          ))}
          {!!x.more && <li>and {x.more} earlier</li>}
        </ul>
      )}
    </details>
  );
}

/** What became of a lot at a stop. */
function Passed({ way, now }: { way: Schemas["Passage"][]; now: number }) {
  const p = way.at(-1);
  if (!p) return <span className="text-soft">–</span>;
  const here = !p.ended;
  const [glyph, tone, text] = p.failed
    ? ["▲", "text-failing", "failed"]
    : p.arrived_at
      ? ["●", here ? "text-ink" : "text-soft", ago(p.arrived_at, now)]
      : here
        ? ["◐", "text-behind", "on its way"]
        : ["○", "text-soft", "never arrived"];
  return (
    <span
      title={[p.failed, p.by && `by ${p.by}`, p.why, p.only_this && "its own change alone"]
        .filter(Boolean)
        .join("; ")}
    >
      <span aria-hidden className={`mr-1.5 ${tone}`}>
        {glyph}
      </span>
      <span className={here ? "font-bold" : ""}>{text}</span>
      {p.only_this && <span className="text-soft"> alone</span>}
    </span>
  );
}
