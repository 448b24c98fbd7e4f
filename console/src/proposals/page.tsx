// Proposals: the list of them, those that wait for somebody first.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { type Schemas, api, got } from "../shared/api";
import { Choice, Pages, Wrong, useNow } from "../shared/parts";
import { ago, count } from "../shared/words";

const LIMIT = 50;

/** How loud a proposal is: what can't be merged as it is stands out, what waits for somebody a little. */
export function Says({ of: p }: { of: Schemas["Proposal"] }) {
  if (!p.needs_you) return <span className="inline-block text-soft first-letter:uppercase">{p.says}</span>;
  return (
    <span>
      <span aria-hidden className={`mr-1.5 ${p.standing === "stale" ? "text-failing" : "text-drifted"}`}>
        {p.standing === "stale" ? "▲" : "◆"}
      </span>
      <span className="inline-block first-letter:uppercase">{p.says}</span>
    </span>
  );
}

export function ProposalsPage() {
  const [params, setParams] = useSearchParams();
  const search = params.get("search") ?? "";
  const all = params.get("which") === "all";
  const [offset, setOffset] = useState(0);
  const now = useNow();
  const set = (k: string, v: string) =>
    setParams((p) => {
      if (v) p.set(k, v);
      else p.delete(k);
      return p;
    });
  useEffect(() => setOffset(0), [search, all]);
  useEffect(() => {
    document.title = "Proposals · Vigila";
  }, []);
  const list = useQuery({
    queryKey: ["proposals", search, all, offset],
    queryFn: () =>
      got(api.GET("/proposals", { params: { query: { search, live: !all, limit: LIMIT, offset } } })),
    placeholderData: keepPreviousData,
  });
  if (list.error && !list.data) return <Wrong error={list.error} />;
  if (!list.data) return <p className="text-soft">Reading the proposals…</p>;
  const { items, total } = list.data;
  return (
    <>
      <h1 className="text-2xl font-bold">Proposals</h1>
      <p className="mt-0.5 text-soft">
        {total > 0
          ? `${count(total, "change")} to repositories${all ? "" : " that nobody has merged yet"}${search && ` with “${search}”`}`
          : search
            ? `None with “${search}”`
            : "No change to a repository waits for anybody."}
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
            placeholder="title, repository, branch or who asked"
            onKeyDown={(e) => e.key === "Enter" && set("search", e.currentTarget.value.trim())}
            onBlur={(e) => set("search", e.currentTarget.value.trim())}
            className="w-72 rounded border border-rule bg-paper px-2 py-0.5"
          />
        </label>
        <Choice
          label="Which"
          value={all ? "all" : ""}
          of={[["all", "all there were"]]}
          any="not merged yet"
          set={(v) => set("which", v)}
        />
      </div>
      {items.length > 0 && (
        <table className="mt-4 w-full text-left">
          <thead className="border-b border-rule text-xs text-soft">
            <tr>
              {["Proposal", "Into", "Asked for", "What is going on"].map((h) => (
                <th key={h} className="px-3 pb-1.5 font-normal">
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {items.map((p) => (
              <tr key={p.number} className="border-b border-rule align-baseline" data-proposal={p.number}>
                <td className="px-3 py-2">
                  <Link className="font-bold underline" to={`/proposals/${p.number}`}>
                    #{p.number} {p.title}
                  </Link>
                </td>
                <td className="px-3 text-sm">
                  {p.repo} <span className="text-soft">{p.base}</span>
                </td>
                <td className="px-3 text-sm whitespace-nowrap">
                  {ago(p.opened, now)} <span className="text-soft">by {p.by}</span>
                </td>
                <td className="px-3 text-sm">
                  <Says of={p} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Pages total={total} limit={LIMIT} offset={offset} go={setOffset} />
    </>
  );
}
