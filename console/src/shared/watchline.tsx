// The watch line: a strip of time painted by standing, with notches for runs and rollbacks.
import { useSyncExternalStore } from "react";
import type { Ward } from "./api";
import { ago, clock, entryTitle } from "./words";

const HOUR = 3_600_000;
export const scales = [24, 6, 1] as const;
export type Scale = (typeof scales)[number];

const listeners = new Set<() => void>();
const read = (): Scale => {
  const n = Number(localStorage.getItem("vigila.scale"));
  return scales.find((s) => s === n) ?? 24;
};

/** How many hours the watch lines show; one choice for every page. */
export function useScale(): [Scale, (s: Scale) => void] {
  const scale = useSyncExternalStore((f) => {
    listeners.add(f);
    return () => listeners.delete(f);
  }, read);
  return [
    scale,
    (s) => {
      localStorage.setItem("vigila.scale", String(s));
      listeners.forEach((f) => f());
    },
  ];
}

export function ScaleChoice() {
  const [scale, set] = useScale();
  return (
    <span role="group" aria-label="Span of the watch lines" className="inline-flex gap-0.5">
      {scales.map((s) => (
        <button
          key={s}
          onClick={() => set(s)}
          aria-pressed={s === scale}
          title={`Show the last ${s === 1 ? "hour" : `${s} hours`}`}
          className={`rounded px-1.5 py-0.5 text-xs ${s === scale ? "bg-rule text-ink" : "text-soft hover:text-ink"}`}
        >
          {s} h
        </button>
      ))}
    </span>
  );
}

/** What the times below a strip are called, from left to right. */
export function marks(scale: Scale): string[] {
  if (scale === 1) return ["1 h ago", "45 min", "30 min", "15 min", "now"];
  if (scale === 6) return ["6 h ago", "4½ h", "3 h", "1½ h", "now"];
  return ["24 h ago", "18 h", "12 h", "6 h", "now"];
}

const paint: Record<string, string> = {
  drifted: "var(--drifted)",
  behind: "var(--behind)",
  contested: "var(--contested)",
  failing: "var(--failing)",
};

/** What a watch line shows: a ward, or several that share one. */
export type Watched = Pick<Ward, "watch" | "runs"> & { id: string; standing: string; needs_you?: boolean };

export function WatchLine({ ward, now, height }: { ward: Watched; now: number; height: number }) {
  const [scale] = useScale();
  const from = now - scale * HOUR;
  const x = (t: number) => Math.min(100, Math.max(0, ((t - from) / (scale * HOUR)) * 100));
  const loud = ward.needs_you;
  const bar = loud ? height : Math.round(height / 2);
  const top = 7 + (height - bar) / 2;
  const parts = ward.watch.map((s, i) => {
    const next = ward.watch[i + 1];
    const begin = Date.parse(s.from);
    const end = next ? Date.parse(next.from) : now;
    const tone = s.health === "failing" ? "failing" : s.standing;
    return { begin, end, tone, text: `${s.standing}, ${s.health}, since ${clock(s.from)}` };
  });
  const first = parts[0]?.begin ?? now;
  const summary = `${ward.id}: ${ward.standing}; ${ward.runs.length} runs in the last 24 hours`;
  return (
    <svg width="100%" height={height + 14} role="img" aria-label={summary} className="block overflow-visible">
      <defs>
        <pattern id="hatch" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="5" height="5" fill="var(--paper)" />
          <rect width="2" height="5" fill="var(--soft)" />
        </pattern>
      </defs>
      <line x1="0" x2="100%" y1={7 + height / 2} y2={7 + height / 2} stroke="var(--rule)" />
      {first < now && (
        <rect
          x={`${x(first)}%`}
          width={`${100 - x(first)}%`}
          y={top}
          height={bar}
          rx="2.5"
          fill="var(--strip)"
        />
      )}
      {parts
        .filter((p) => p.tone !== "in step" && p.end > from)
        .map((p) => (
          <rect
            key={p.begin}
            x={`${x(p.begin)}%`}
            width={`${Math.max(0.3, x(p.end) - x(p.begin))}%`}
            y={top}
            height={bar}
            fill={p.tone === "blind" ? "url(#hatch)" : paint[p.tone]}
          >
            <title>{p.text}</title>
          </rect>
        ))}
      {ward.runs
        .filter((n) => Date.parse(n.at) > from && n.kind !== "hold" && n.kind !== "release")
        .map((n) => {
          const at = `${x(Date.parse(n.at))}%`;
          const back = n.kind === "rollback";
          const title = `#${n.number} ${entryTitle({ ...n, ward: ward.id, by: "", started: n.at })}, ${ago(n.at, now)}`;
          return (
            <g key={n.number}>
              <line
                x1={at}
                x2={at}
                y1={3}
                y2={height + 11}
                stroke={back ? "var(--failing)" : "var(--ink)"}
                strokeWidth="2"
              >
                <title>{title}</title>
              </line>
              {n.canary && (
                <svg x={at} y={7 + height / 2} overflow="visible">
                  <circle
                    r="4.5"
                    fill="var(--sheet)"
                    stroke={["done", "running"].includes(n.outcome) ? "var(--ink)" : "var(--failing)"}
                    strokeWidth="2"
                  >
                    <title>{title}, a canary</title>
                  </circle>
                </svg>
              )}
              {back && (
                <svg x={at} y="0" overflow="visible">
                  <path d="M0 0 L-7 4 L0 8 Z" fill="var(--failing)">
                    <title>{title}</title>
                  </path>
                </svg>
              )}
            </g>
          );
        })}
    </svg>
  );
}
