// A canary: its shares, the old version and the new one side by side, what its checks have answered, and what a person may say to it.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { useAct } from "../shared/act";
import { type Schemas, api, got } from "../shared/api";
import { Button, Modal, Panel, Reason, Wrong } from "../shared/parts";
import { ago, clock, count, span } from "../shared/words";

type Canary = Schemas["Canary"];
type Check = Schemas["CanaryCheck"];
type Word = Schemas["SayCanary"]["word"];

export function useCanary(ward: string, entry: number | undefined, live: boolean) {
  return useQuery({
    queryKey: ["ward", ward, "canary", entry],
    queryFn: () => got(api.GET("/wards/{ward}/canary", { params: { path: { ward }, query: { entry } } })),
    refetchInterval: live ? 2_000 : false,
    retry: false,
  });
}

/** The canary of the run that goes on, as a part of a ward's page. */
export function CanaryPanel({ ward, entry, now }: { ward: string; entry: number; now: number }) {
  const canary = useCanary(ward, entry, true);
  const c = canary.data;
  if (!c) return null;
  return (
    <div className="mt-4">
      <Panel
        title={`Canary of sync #${c.entry}`}
        side={<span className="font-normal text-soft">{deadline(c, now)}</span>}
      >
        <div className="px-4 py-3">
          {canary.error && <Wrong error={canary.error} />}
          <CanaryBody c={c} now={now} buttons={<Words c={c} />} />
        </div>
      </Panel>
    </div>
  );
}

function deadline(c: Canary, now: number): string {
  if (!c.going_on || !c.until || c.phase === "going back") return "";
  return `goes back by itself in ${span(Date.parse(c.until) - now)}, should it not be through by then`;
}

export function CanaryBody({ c, now, buttons }: { c: Canary; now: number; buttons?: React.ReactNode }) {
  return (
    <div className="grid gap-x-8 gap-y-4 lg:grid-cols-[minmax(0,1fr)_minmax(0,19rem)]">
      <div className="min-w-0 space-y-4">
        <Shares c={c} now={now} />
        {c.workloads.map((w) => (
          <section key={w.key} aria-label={`${w.kind}/${w.name}`} className="space-y-3">
            <Sides c={c} w={w} />
            {w.checks.length > 0 && (
              <ul className={`grid gap-3 ${w.checks.length > 1 ? "md:grid-cols-2" : ""}`}>
                {w.checks.map((k) => (
                  <li key={k.name} className="min-w-0">
                    <CheckChart c={c} of={k} now={now} />
                  </li>
                ))}
              </ul>
            )}
          </section>
        ))}
      </div>
      <div className="min-w-0 space-y-3">
        {buttons}
        <Happened c={c} />
      </div>
    </div>
  );
}

const through = (c: Canary) =>
  ["handing over", "through", "closing"].includes(c.phase) || (c.phase === "over" && !c.back);

/** The line of shares: what is past, now, and to come. */
function Shares({ c, now }: { c: Canary; now: number }) {
  const steps = [
    ...c.shares.map((s) => ({
      title: `${s.percent} %`,
      below: s.person ? "until a person says" : `for ${span((s.seconds ?? 0) * 1000)}`,
    })),
    { title: "all", below: "the rest of the revision follows" },
  ];
  const at = through(c) ? c.shares.length : c.share;
  const over = c.phase === "over" && !c.back;
  return (
    <ol className="flex" aria-label="Shares of the traffic">
      {steps.map((s, i) => {
        const here = i === at && !over;
        const past = i < at || over;
        const bad = here && !!c.back;
        const tone = bad ? "text-failing" : here ? "text-behind" : past ? "text-ink" : "text-soft";
        let below = s.below;
        if (here && c.phase === "sharing") {
          if (c.held) below = `held by ${c.held.by}`;
          else if (c.waits_for_person) below = `waits for a person, ${span(now - Date.parse(c.since ?? ""))}`;
          else if (c.next) below = `goes on in ${span(Date.parse(c.next) - now)}`;
          else below = "waits until its checks know";
        }
        if (here && c.going_on && ["looking", "making", "sizing", "leading"].includes(c.phase))
          below = "is made ready";
        return (
          <li key={i} className="min-w-0 flex-1" aria-current={here ? "step" : undefined}>
            <div className="flex items-center">
              <span aria-hidden className={`text-lg leading-none ${tone}`}>
                {bad ? "▲" : past ? "●" : here ? "◐" : "○"}
              </span>
              {i < steps.length - 1 && (
                <span aria-hidden className={`mx-1.5 h-0.5 flex-1 ${i < at ? "bg-ink" : "bg-rule"}`} />
              )}
            </div>
            <p className={`pr-2 font-bold ${tone}`}>{s.title}</p>
            <p className="pr-2 text-xs text-soft">{below}</p>
          </li>
        );
      })}
    </ol>
  );
}

/** The old version and the new one, side by side. */
function Sides({ c, w }: { c: Canary; w: Schemas["CanaryWorkload"] }) {
  const tag = (image?: string) => image?.replace(/^.*\//, "") ?? "";
  const share = through(c) ? 100 : c.back ? 0 : (c.weight ?? 0);
  const goes = c.going_on;
  return (
    <table className="w-full text-left text-sm">
      <thead>
        <tr className="text-soft">
          <th className="w-28 py-0.5 font-normal">{w.kind}</th>
          <th className="py-0.5 font-normal">
            <Swatch side="old" /> old
          </th>
          <th className="py-0.5 font-normal">
            <Swatch side="new" /> new
          </th>
        </tr>
      </thead>
      <tbody>
        <tr className="border-t border-rule">
          <th className="py-1 font-normal text-soft">image</th>
          <td className="py-1 pr-3 font-mono text-xs break-all" title={w.old_image}>
            {tag(w.old_image)}
          </td>
          <td className="py-1 font-mono text-xs break-all" title={w.new_image}>
            {tag(w.new_image)}
          </td>
        </tr>
        <tr className="border-t border-rule">
          <th className="py-1 font-normal text-soft">Pods</th>
          <td className="py-1 pr-3">{w.old_size}</td>
          <td className="py-1">
            {w.new_size}
            {!goes && c.back && ", taken away"}
            {goes && (w.new_ready ? ", ready" : `, not ready${w.reason ? `: ${w.reason}` : ""}`)}
          </td>
        </tr>
        <tr className="border-t border-rule">
          <th className="py-1 font-normal text-soft">traffic</th>
          <td className="py-1 pr-3">{100 - share} %</td>
          <td className="py-1">{share} %</td>
        </tr>
        {(w.seen_share !== undefined || (w.asks_traffic && c.phase === "sharing")) && (
          <tr className="border-t border-rule">
            <th className="py-1 font-normal text-soft">traffic seen</th>
            <td className="py-1 pr-3">
              {w.seen_share === undefined ? "not known" : `${Math.round(100 - w.seen_share)} %`}
            </td>
            <td className="py-1">
              {w.seen_share === undefined ? "not known" : `${Math.round(w.seen_share)} %`}
            </td>
          </tr>
        )}
      </tbody>
    </table>
  );
}

function Swatch({ side }: { side: "old" | "new" }) {
  return (
    <svg width="18" height="8" aria-hidden className="mr-0.5 inline-block">
      <line
        x1="0"
        x2="18"
        y1="4"
        y2="4"
        stroke={side === "new" ? "var(--behind)" : "var(--soft)"}
        strokeWidth={side === "new" ? 2.5 : 1.5}
        strokeDasharray={side === "new" ? undefined : "4 3"}
      />
    </svg>
  );
}

const glyph: Record<Check["last"], string> = { good: "●", bad: "▲", "not known": "·" };

/** A value of a check, in its unit. */
export function measure(v: number, unit?: Check["unit"]): string {
  const digits = (n: number) => String(Number(n.toPrecision(3)));
  if (unit === "seconds") return `${digits(v * 1000)} ms`;
  if (unit === "share") return `${digits(v * 100)} %`;
  return digits(v);
}

function CheckChart({ c, of, now }: { c: Canary; of: Check; now: number }) {
  const newest = of.points.at(-1);
  const tone = of.last === "bad" ? "text-failing" : of.last === "good" ? "text-ink" : "text-soft";
  return (
    <figure className="rounded-md border border-rule p-2.5">
      <figcaption className="flex items-baseline justify-between gap-3">
        <span className="font-bold">
          <span aria-hidden className={tone}>
            {glyph[of.last]}
          </span>{" "}
          {of.name} <span className="text-sm font-normal text-soft">{of.last}</span>
        </span>
        <span className="text-sm whitespace-nowrap">
          {newest?.new !== undefined && (
            <>
              <Swatch side="new" /> {measure(newest.new, of.unit)}
            </>
          )}
          {newest?.old !== undefined && (
            <>
              {" "}
              <span className="ml-2" />
              <Swatch side="old" /> {measure(newest.old, of.unit)}
            </>
          )}
        </span>
      </figcaption>
      <Chart
        of={of}
        end={c.going_on ? now : Date.parse(c.ended ?? "") || now}
        begin={Date.parse(c.began ?? "") || now}
      />
      <p className="text-xs text-soft">
        good is <code className="font-mono">{of.good}</code>, asked every {span(of.every_seconds * 1000)};{" "}
        {count(of.misses, "miss").replace("misss", "misses")} of {of.asked}, {of.bears} borne
        {of.last === "not known" && of.why ? `. ${of.why}` : ""}
      </p>
    </figure>
  );
}

/** A check over the time of the canary: old against new, the limit as a line, misses marked. */
function Chart({ of, begin, end }: { of: Check; begin: number; end: number }) {
  const host = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useEffect(() => {
    const el = host.current;
    if (!el) return;
    const watch = new ResizeObserver(() => setWidth(Math.floor(el.clientWidth)));
    watch.observe(el);
    return () => watch.disconnect();
  }, []);
  const last = of.points.at(-1)?.at;
  useEffect(() => {
    const el = host.current;
    if (!el || width < 50) return;
    const css = getComputedStyle(document.documentElement);
    const color = (name: string) => css.getPropertyValue(name).trim();
    const xs = of.points.map((p) => Date.parse(p.at) / 1000);
    const limit = of.limit;
    const data: uPlot.AlignedData = [
      xs,
      of.points.map((p) => p.old ?? null),
      of.points.map((p) => p.new ?? null),
      of.points.map((p) => (p.miss ? (p.new ?? limit ?? 0) : null)),
      xs.map(() => limit ?? null),
    ];
    const values = [...(data[1] ?? []), ...(data[2] ?? []), limit].filter((v) => v != null) as number[];
    const top = Math.max(...values, 0) * 1.15 || 1;
    const axis = {
      stroke: color("--soft"),
      grid: { stroke: color("--rule"), width: 1 },
      ticks: { show: false },
      font: "11px sans-serif",
    };
    const plot = new uPlot(
      {
        width,
        height: 120,
        legend: { show: false },
        cursor: { show: false },
        padding: [6, 26, 0, 0],
        scales: {
          x: { time: true, range: [begin / 1000, Math.max(end, begin + 10_000) / 1000] },
          y: { range: [Math.min(...values, 0), top] },
        },
        axes: [
          {
            ...axis,
            size: 22,
            space: 70,
            values: (_, ticks) =>
              ticks.map((t) => clock(new Date(t * 1000).toISOString()).slice(0, width < 260 ? 5 : 8)),
          },
          { ...axis, size: 52, space: 28, values: (_, ticks) => ticks.map((t) => measure(t, of.unit)) },
        ],
        series: [
          {},
          { stroke: color("--soft"), width: 1.5, dash: [4, 3], points: { show: false } },
          {
            stroke: color("--behind"),
            width: 2.5,
            points: { show: xs.length < 3, size: 5, fill: color("--behind") },
          },
          {
            paths: () => null,
            points: { show: true, size: 9, stroke: color("--failing"), fill: color("--failing") },
          },
          { stroke: color("--failing"), width: 1.5, dash: [5, 4], points: { show: false } },
        ],
      },
      data,
      el,
    );
    return () => plot.destroy();
  }, [width, last, of.points.length, of.limit, of.unit, begin, Math.floor(end / 5000)]);
  const label = `${of.name}: ${of.points.length} answers, ${of.misses} misses${of.limit !== undefined ? `, limit ${measure(of.limit, of.unit)}` : ""}`;
  return (
    <div ref={host} role="img" aria-label={label} className="mt-1 min-h-[120px]">
      {of.points.length === 0 && width === 0 && <span className="text-sm text-soft">Not asked yet.</span>}
    </div>
  );
}

function Happened({ c }: { c: Canary }) {
  return (
    <ol
      className="max-h-64 space-y-1 overflow-auto border-t border-rule pt-2 text-sm"
      aria-label="What happened"
    >
      {c.happened.toReversed().map((l, i) => (
        <li key={`${l.at} ${i}`} className="flex gap-2">
          <span className="shrink-0 text-soft">{clock(l.at)}</span>
          <span className="min-w-0 break-words">{l.text}</span>
        </li>
      ))}
    </ol>
  );
}

/** What a person may say to a canary that goes on. */
function Words({ c }: { c: Canary }) {
  const [asked, ask] = useState<Word>();
  const act = useAct({ id: c.ward }, () => ask(undefined));
  const [why, setWhy] = useState("");
  const say = (word: Word) =>
    act.mutate(() =>
      got(api.POST("/wards/{ward}/canary", { params: { path: { ward: c.ward } }, body: { word, why } })),
    );
  const before = ["looking", "making", "sizing", "leading", "sharing"].includes(c.phase);
  const sharing = c.phase === "sharing";
  const next = c.shares[c.share + 1];
  return (
    <>
      <div className="flex flex-wrap gap-2">
        <Button
          changes="sync"
          strong
          disabled={!sharing || act.isPending}
          tip={
            next ? `Give the new version ${next.percent} % now` : "Give the new version all of the traffic"
          }
          onClick={() => say("next")}
        >
          {next ? `Go on to ${next.percent} %` : "Go on"}
        </Button>
        <Button
          changes="sync"
          disabled={!before || !!c.held || act.isPending}
          tip="Stay at this share until somebody sends it on; its checks go on"
          onClick={() => say("hold")}
        >
          Hold here
        </Button>
        <Button
          changes="sync"
          disabled={!sharing || act.isPending}
          tip="All of the traffic to the new version now"
          onClick={() => ask("finish")}
        >
          Finish
        </Button>
        <Button
          changes="sync"
          disabled={!before || act.isPending}
          tip="All of the traffic to the old version now; the revision is rejected"
          onClick={() => ask("back")}
        >
          Send back
        </Button>
      </div>
      {act.error && !asked && <Wrong error={act.error} />}
      {asked && (
        <Modal
          open
          close={() => ask(undefined)}
          title={asked === "back" ? "Send the canary back" : "Finish the canary"}
          about={
            asked === "back"
              ? "All of the traffic goes to the old version again, and the new one is taken away. The revision is rejected; it can be tried again."
              : "All of the traffic goes to the new version now, and the rest of the revision follows."
          }
        >
          <Reason value={why} set={setWhy} />
          {act.error && <Wrong error={act.error} />}
          <div className="mt-4 flex justify-end gap-2.5">
            <Button onClick={() => ask(undefined)}>Cancel</Button>
            <Button changes="sync" strong disabled={act.isPending} onClick={() => say(asked)}>
              {asked === "back" ? "Send back" : "Finish"}
            </Button>
          </div>
        </Modal>
      )}
    </>
  );
}

/** The canary that an entry carried, within its dialog. */
export function CanaryOf({
  ward,
  entry,
  live,
  now,
}: {
  ward: string;
  entry: number;
  live: boolean;
  now: number;
}) {
  const canary = useCanary(ward, entry, live);
  if (canary.error) return <Wrong error={canary.error} />;
  if (!canary.data) return null;
  return (
    <section className="mb-4 border-b border-rule pb-4" aria-label="Canary">
      <p className="mb-3 text-sm text-soft">
        The canary{" "}
        {canary.data.ended
          ? `took ${span(Date.parse(canary.data.ended) - Date.parse(canary.data.began ?? ""))}, and ended ${ago(canary.data.ended, now)}`
          : canary.data.says}
      </p>
      <CanaryBody c={canary.data} now={now} />
    </section>
  );
}
