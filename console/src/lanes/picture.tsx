// The picture of a lane: its stops from left to right, with what leads to what, and below each what is there and what waits.
import { type ReactNode, useLayoutEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../shared/api";
import { ago, span, wantsApprovals } from "../shared/words";

export type Stop = Schemas["LaneStop"];
type Lane = Schemas["Lane"];

/** What a stop has, as short as it can be said. */
export function lotAt(s: Stop): string {
  const p = s.passage;
  if (p?.lot) return p.only_this ? `${p.lot} alone` : `${p.lot}`;
  if (p?.over) return `${p.over}, by hand`;
  return "–";
}

const marks = {
  failed: ["▲", "text-failing", "failed"],
  hand: ["≠", "text-drifted", "changed by hand"],
  arrived: ["●", "text-soft", "has arrived"],
  way: ["◐", "text-behind", "on its way"],
  none: ["○", "text-soft", "nothing yet"],
} as const;

function markOf(s: Stop): keyof typeof marks {
  if (s.problem || s.passage?.failed) return "failed";
  if (!s.passage) return "none";
  if (s.passage.over) return "hand";
  return s.arrived ? "arrived" : "way";
}

export function Mark({ of }: { of: Stop }) {
  const [glyph, tone, word] = marks[markOf(of)];
  return (
    <span role="img" aria-label={word} title={word} className={`font-mono font-bold ${tone}`}>
      {glyph}
    </span>
  );
}

/** In which column and row each stop is drawn: a column further than what it comes after, branches below each other. */
export function placed(stops: Stop[]): Map<string, { column: number; row: number }> {
  const by = new Map(stops.map((s) => [s.name, s]));
  const depth = (s: Stop): number =>
    Math.max(0, ...s.comes_after.map((a) => (by.has(a) ? depth(by.get(a)!) + 1 : 0)));
  const out = new Map<string, { column: number; row: number }>();
  const used: number[] = []; // rows that are taken, by column
  const walk = (s: Stop, row: number) => {
    if (out.has(s.name)) return;
    const column = depth(s);
    const at = Math.max(row, used[column] ?? 0);
    used[column] = at + 1;
    out.set(s.name, { column, row: at });
    stops.filter((x) => x.comes_after[0] === s.name).forEach((x, i) => walk(x, at + i));
  };
  stops.filter((s) => s.comes_after.length === 0).forEach((s) => walk(s, 0));
  stops.forEach((s) => walk(s, 0));
  return out;
}

export function Picture({
  lane,
  now,
  actions,
}: {
  lane: Lane;
  now: number;
  actions: (s: Stop) => ReactNode;
}) {
  const box = useRef<HTMLOListElement>(null);
  const [lines, setLines] = useState<{ d: string; past: boolean }[]>([]);
  const places = placed(lane.stops);
  const columns = Math.max(...[...places.values()].map((p) => p.column)) + 1;
  useLayoutEffect(() => {
    const ol = box.current;
    if (!ol) return;
    const draw = () => {
      const zero = ol.getBoundingClientRect();
      const middle = (name: string) => {
        const r = ol.querySelector(`[data-mark="${name}"]`)?.getBoundingClientRect();
        return (
          r && { left: r.left - zero.left, right: r.right - zero.left, y: r.top - zero.top + r.height / 2 }
        );
      };
      setLines(
        lane.stops.flatMap((s) =>
          s.comes_after.flatMap((a) => {
            const from = middle(a);
            const to = middle(s.name);
            if (!from || !to) return [];
            const turn = to.left - 16;
            const before = lane.stops.find((x) => x.name === a);
            return [
              {
                d: `M ${from.right + 4} ${from.y} H ${from.y === to.y ? to.left - 4 : turn} ${from.y === to.y ? "" : `V ${to.y} H ${to.left - 4}`}`,
                past: !!before?.passage?.lot && before.passage.lot === s.passage?.lot,
              },
            ];
          }),
        ),
      );
    };
    draw();
    const watch = new ResizeObserver(draw);
    watch.observe(ol);
    return () => watch.disconnect();
  }, [lane]);
  return (
    <ol
      ref={box}
      aria-label="Stops"
      className="relative mt-5 grid gap-x-6 gap-y-6"
      style={{ gridTemplateColumns: `repeat(${columns}, minmax(0, 1fr))` }}
    >
      <svg aria-hidden className="pointer-events-none absolute inset-0 size-full overflow-visible">
        {lines.map((l) => (
          <path
            key={l.d}
            d={l.d}
            fill="none"
            strokeWidth={2}
            className={l.past ? "stroke-soft" : "stroke-strip"}
          />
        ))}
      </svg>
      {lane.stops.map((s) => {
        const at = places.get(s.name)!;
        return (
          <li
            key={s.name}
            data-stop={s.name}
            className="min-w-0"
            style={{ gridColumn: at.column + 1, gridRow: at.row + 1 }}
          >
            <StopOf s={s} lane={lane} now={now} actions={actions(s)} />
          </li>
        );
      })}
    </ol>
  );
}

function StopOf({ s, lane, now, actions }: { s: Stop; lane: Lane; now: number; actions: ReactNode }) {
  const [glyph, tone] = marks[markOf(s)];
  const waiting = s.offer && !s.together;
  const ring =
    waiting && s.needs_you ? "border-drifted" : markOf(s) === "failed" ? "border-failing" : "border-soft";
  return (
    <>
      <p className="flex items-baseline gap-2">
        <span
          data-mark={s.name}
          aria-hidden
          className={`inline-flex size-7 shrink-0 items-center justify-center self-center rounded-full border-2 bg-paper font-mono text-sm font-bold ${ring} ${tone}`}
        >
          {glyph}
        </span>
        <span className="relative flex min-w-0 items-baseline gap-2 bg-paper pr-2">
          <strong className="text-lg">{s.name}</strong>
          <span className="min-w-0 truncate text-sm text-soft" title={terms(s)}>
            {terms(s)}
          </span>
        </span>
      </p>
      <div className="mt-2 rounded-lg border border-rule bg-sheet px-3.5 py-2.5">
        <Here s={s} now={now} />
      </div>
      {waiting && s.offer && (
        <div
          className={`mt-2 rounded-lg border px-3.5 py-2.5 ${s.needs_you ? "border-drifted bg-lamp-sheet" : "border-rule bg-sheet"}`}
        >
          <p className="font-bold">
            Lot {s.offer.lot} is offered
            {together(s, lane) && <span className="font-normal"> to {together(s, lane)}</span>}
          </p>
          <p className="text-sm">
            {s.offer.waits ? (
              <span className="inline-block first-letter:uppercase">{s.offer.waits}</span>
            ) : (
              "It is being let in."
            )}
            {s.offer.next && ` Opens in ${span(Date.parse(s.offer.next) - now)}.`}
          </p>
          {s.offer.unseen && (
            <p className="text-sm">
              <span aria-hidden className="mr-1.5 text-drifted">
                ◆
              </span>
              {more(s)}
            </p>
          )}
          <div className="mt-2 flex flex-wrap gap-2">{actions}</div>
        </div>
      )}
    </>
  );
}

/** On what terms a stop takes lots. */
function terms(s: Stop): string {
  if (s.comes_after.length === 0) return "lots begin here";
  const how = s.lets_in === "ask" ? "asks" : "by itself";
  return [
    s.together ? `with ${s.together}` : how + (s.by_proposal ? ", by proposal" : ""),
    s.settled_seconds ? `ready for ${span(s.settled_seconds * 1000)}` : "",
    s.hours ?? "",
    wantsApprovals(s.wants_approvals),
  ]
    .filter(Boolean)
    .join(" · ");
}

function together(s: Stop, lane: Lane): string {
  const others = lane.stops.filter((x) => x.together === s.name).map((x) => x.name);
  return others.length > 0 ? [s.name, ...others].join(" and ") : "";
}

function more(s: Stop): string {
  const n = s.offer?.changes.filter((c) => c.unseen).length ?? 0;
  return `${n === 1 ? "One thing" : `${n} things`} more than lot ${s.offer?.lot} itself would come along.`;
}

function Here({ s, now }: { s: Stop; now: number }) {
  const p = s.passage;
  if (s.problem) {
    return (
      <p className="text-sm break-words">
        <strong>Can't be read or written.</strong> {s.problem}
      </p>
    );
  }
  if (!p) return <p className="text-sm text-soft">Nothing that is carried is here yet.</p>;
  return (
    <div className="space-y-0.5 text-sm">
      <p className="text-base font-bold first-letter:uppercase">{p.title.replace(/,$/, "")}</p>
      {p.subject && <p className="break-words">{p.subject}</p>}
      {p.failed ? (
        <p className="break-words">
          <span aria-hidden className="mr-1 text-failing">
            ▲
          </span>
          {p.failed}
        </p>
      ) : s.arrived ? (
        <p className="text-soft">
          arrived {ago(s.arrives, now)}
          {p.by && `, by ${p.by}`}
          {p.proposal && (
            <>
              {" "}
              with{" "}
              <Link className="underline" to={`/proposals/${p.proposal}`}>
                #{p.proposal}
              </Link>
            </>
          )}
        </p>
      ) : (
        <>
          <p>
            {s.arrives
              ? `Arrives in ${span(Date.parse(s.arrives) - now)}, if its wards stay ready`
              : `Waits: ${s.waits}`}
          </p>
          <p className="text-soft">
            for {span(now - Date.parse(p.since))}
            {p.by && `, by ${p.by}`}
          </p>
        </>
      )}
      {p.along && p.along.length > 0 && (
        <p className="text-soft">
          with {p.along.length === 1 ? "lot" : "lots"} {p.along.join(", ")}
        </p>
      )}
      {p.against && p.against.length > 0 && (
        <p>
          <span aria-hidden className="mr-1.5 text-drifted">
            ◆
          </span>
          Let in although {p.against.join("; ")}: {p.why}
        </p>
      )}
      {s.held_by && (
        <p>
          <span aria-hidden className="mr-1.5">
            ‖
          </span>
          Held by {s.held_by.by} since {span(now - Date.parse(s.held_by.at))}: {s.held_by.why}
        </p>
      )}
    </div>
  );
}
