// The logbook of every ward.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { type Entry, api, got } from "../shared/api";
import { Choice, Pages, Wrong, useNow } from "../shared/parts";
import { EntryDialog } from "./entries";
import { ago, bad, count, entryTitle, moment, short, span } from "../shared/words";

const LIMIT = 50;

/** How far back the page may go, in hours. */
const spans: [string, string][] = [
  ["1", "the last hour"],
  ["8", "8 hours"],
  ["24", "24 hours"],
  ["72", "3 days"],
  ["720", "30 days"],
];

const kinds = [
  "sync",
  "restore",
  "rollback",
  "dismantle",
  "drift",
  "hold",
  "release",
  "reject",
  "accept",
  "remove",
  "secret",
];

export function LogbookPage() {
  const [params, setParams] = useSearchParams();
  const search = params.get("search") ?? "";
  const hours = params.get("hours") ?? "";
  const kind = params.get("kind") ?? "";
  const set = (k: string, v: string) =>
    setParams((p) => {
      if (v) p.set(k, v);
      else p.delete(k);
      return p;
    });
  const words = [search, kind].filter(Boolean).join(" ");
  const [offset, setOffset] = useState(0);
  const [open, setOpen] = useState<Entry>();
  const now = useNow();
  useEffect(() => setOffset(0), [words, hours]);
  useEffect(() => {
    document.title = "Logbook · Vigila";
  }, []);
  const list = useQuery({
    queryKey: ["entries", "", words, hours, offset],
    queryFn: () => {
      const since = hours ? new Date(Date.now() - Number(hours) * 3_600_000).toISOString() : undefined;
      return got(api.GET("/entries", { params: { query: { search: words, since, limit: LIMIT, offset } } }));
    },
    placeholderData: keepPreviousData,
  });
  if (list.error && !list.data) return <Wrong error={list.error} />;
  if (!list.data) return <p className="text-soft">Reading the logbook…</p>;
  return (
    <>
      <h1 className="text-2xl font-bold">Logbook</h1>
      <p className="mt-0.5 text-soft">
        {search
          ? `${count(list.data.total, "line")} with “${search}”`
          : `${count(list.data.total, "line")}, the newest first`}
      </p>
      <div
        role="group"
        aria-label="Filters"
        className="mt-3 flex flex-wrap items-center gap-x-4 gap-y-2 text-sm"
      >
        <label className="inline-flex items-center gap-1.5">
          <span className="text-soft">Words</span>
          <input
            type="search"
            defaultValue={search}
            key={search}
            placeholder="ward, outcome, revision, who or why"
            onKeyDown={(e) => e.key === "Enter" && set("search", e.currentTarget.value.trim())}
            onBlur={(e) => set("search", e.currentTarget.value.trim())}
            className="w-72 rounded border border-rule bg-paper px-2 py-0.5"
          />
        </label>
        <Choice label="What" value={kind} of={kinds} set={(v) => set("kind", v)} />
        <Choice label="Since" value={hours} of={spans} any="ever" set={(v) => set("hours", v)} />
      </div>
      <table className="mt-4 w-full table-fixed text-left">
        <colgroup>
          <col className="w-20 lg:w-24" />
          <col className="w-40 lg:w-48" />
          <col className="w-44 lg:w-52" />
          <col className="hidden w-20 lg:table-column" />
          <col className="w-20 lg:w-56" />
          <col />
          <col className="hidden w-20 lg:table-column" />
        </colgroup>
        <thead className="border-b border-rule text-xs text-soft">
          <tr>
            {["When", "Ward", "What", "By", "Revision", "Why", "Took"].map((h) => (
              <th
                key={h}
                className={`px-2 pb-1.5 font-normal last:text-right lg:px-3 ${h === "By" || h === "Took" ? "hidden lg:table-cell" : ""}`}
              >
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {list.data.items.map((e) => {
            const took = e.ended ? Date.parse(e.ended) - Date.parse(e.started) : 0;
            return (
              <tr
                key={`${e.ward} ${e.number}`}
                className="border-b border-rule align-baseline hover:bg-sheet"
              >
                <td className="px-2 py-2 whitespace-nowrap text-soft lg:px-3" title={moment(e.started)}>
                  {ago(e.started, now)}
                </td>
                <td className="truncate px-2 lg:px-3">
                  <Link to={`/wards/${e.ward}`} className="font-bold hover:underline">
                    {e.ward.replace(/@.*/, "")}
                  </Link>
                  <span className="text-soft"> @{e.ward.replace(/.*@/, "")}</span>
                </td>
                <td className="truncate px-2 lg:px-3">
                  <button
                    className="hover:underline"
                    onClick={() => setOpen(e)}
                    title="Show the outcome for each object"
                  >
                    {(bad(e) || e.kind === "rollback") && (
                      <span aria-hidden className="mr-1 text-failing">
                        ▲
                      </span>
                    )}
                    #{e.number} {entryTitle(e)}
                    {e.to_entry ? ` to #${e.to_entry}` : ""}
                  </button>
                </td>
                <td className="hidden truncate px-3 lg:table-cell">{e.by}</td>
                <td className="truncate px-2 lg:px-3" title={e.revision?.subject}>
                  <span className="font-mono text-sm">{short(e.revision)}</span>{" "}
                  <span className="hidden text-soft lg:inline">{e.revision?.subject}</span>
                </td>
                <td className="px-2 py-1.5 text-soft lg:px-3" title={e.reason || e.why}>
                  <span className="line-clamp-2 leading-snug">{e.reason || e.why}</span>
                </td>
                <td className="hidden px-3 text-right whitespace-nowrap text-soft lg:table-cell">
                  {took >= 1000 ? span(took) : ""}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {list.data.total === 0 && (
        <p className="mt-4 text-soft">{words || hours ? "Nothing matches." : "Nothing has happened yet."}</p>
      )}
      <Pages total={list.data.total} limit={LIMIT} offset={offset} go={setOffset} />
      {open && (
        <EntryDialog
          ward={{ id: open.ward }}
          number={open.number}
          now={now}
          close={() => setOpen(undefined)}
        />
      )}
    </>
  );
}
