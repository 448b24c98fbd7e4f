// How things are called and written: glyphs, times, values. The same words as on the command line.
import type { Difference, Entry, Schemas, Ward } from "./api";

export const standingGlyph: Record<Schemas["Standing"], string> = {
  "in step": "=",
  behind: "<",
  drifted: "≠",
  contested: "⇄",
  blind: "?",
};

export const healthGlyph: Record<Schemas["Health"], string> = {
  ready: "●",
  settling: "◐",
  failing: "▲",
  absent: "○",
  unknown: "·",
};

/** A time in words: 4 s, 36 min, 7 h, 3 d. */
export function span(ms: number): string {
  const s = Math.max(0, Math.floor(ms / 1000));
  if (s < 60) return `${s} s`;
  if (s < 2 * 3600) return `${Math.floor(s / 60)} min`;
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h`;
  return `${Math.floor(s / 86400)} d`;
}

export function ago(t: string | undefined, now: number): string {
  return t ? `${span(now - Date.parse(t))} ago` : "never";
}

const two = (n: number) => String(n).padStart(2, "0");

/** The browser's zone, as an offset from UTC: UTC, UTC+2 or UTC−3:30. */
export function zone(d = new Date()): string {
  const m = -d.getTimezoneOffset();
  if (m === 0) return "UTC";
  const rest = Math.abs(m) % 60;
  return `UTC${m > 0 ? "+" : "−"}${Math.floor(Math.abs(m) / 60)}${rest ? `:${two(rest)}` : ""}`;
}

/** Hours, minutes and seconds of the browser's day. */
export function clock(t: string): string {
  const d = new Date(t);
  return `${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}`;
}

/** Day and time, with the zone they are told in. */
export function moment(t: string): string {
  const d = new Date(t);
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${clock(t)} ${zone(d)}`;
}

export const short = (r?: Schemas["Revision"]) => r?.id.slice(0, 7) ?? "";

/** A field's value on one line. */
export function value(v: unknown): string {
  if (v === undefined || v === null) return "nothing";
  if (typeof v === "string") return v === "" || /[\n\t]/.test(v) ? JSON.stringify(v) : v;
  return JSON.stringify(v);
}

/** Which approvals are wanted before something is merged; nothing for none. */
export function wantsApprovals(w?: { how_many: number; of_teams?: string[] }): string {
  if (!w?.how_many) return "";
  return `wants ${count(w.how_many, "approval")}${w.of_teams?.length ? ` of ${w.of_teams.join(" or ")}` : ""}`;
}

export function count(n: number, one: string): string {
  return n === 1 ? `1 ${one}` : `${n} ${one}s`;
}

const numbers = [
  "No",
  "One",
  "Two",
  "Three",
  "Four",
  "Five",
  "Six",
  "Seven",
  "Eight",
  "Nine",
  "Ten",
  "Eleven",
  "Twelve",
];

/** A number at the start of a sentence. */
export const inWords = (n: number) => numbers[n] ?? String(n);

export function whoWhen(d: Difference, now: number): string {
  const who = d.who ? (d.likely ? `probably ${d.who}` : d.who) : "somebody";
  return d.when ? `${who}, ${ago(d.when, now)}` : who;
}

export function entryTitle(e: Entry): string {
  if (e.kind === "hold") return "held";
  if (e.kind === "release") return "released";
  if (e.kind === "reject") return "revision rejected";
  if (e.kind === "accept") return "rejection lifted";
  if (e.kind === "drift") return "drift";
  if (e.kind === "remove") return "removed";
  if (e.kind === "secret") return "secret set";
  return `${e.kind} · ${e.outcome}`;
}

export const bad = (e: { outcome: Entry["outcome"] }) => !["done", "running"].includes(e.outcome);

/** The title of a ward's page: what is going on, with how long it has been so. */
export function headline(w: Ward, now: number): string {
  const since = span(now - Date.parse(w.since));
  if (w.run) return w.says;
  if (w.standing === "drifted") return `Drifted for ${since}: ${w.says}`;
  if (w.standing === "contested") return `Contested for ${since}: ${w.says}`;
  if (w.worst === "failing") return w.says;
  if (w.standing === "in step" && (w.added_fields ?? 0) > 0 && !w.hold)
    return `In step for ${since}; ${w.says}`;
  if (w.standing === "blind")
    return w.repository.problem || w.live.problem ? `Blind for ${since}: ${w.says}` : w.says;
  if (w.hold) return w.pending > 0 ? `${w.says}. Behind by ${count(w.pending, "object")}` : w.says;
  if (w.standing === "behind") return w.says;
  return `In step for ${since}`;
}

/** When a task has its turn. */
export const taskTitle = (t: Schemas["Task"]) => (t === "failed" ? "task on failure" : `task ${t}`);
