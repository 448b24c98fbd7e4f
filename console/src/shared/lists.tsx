// Lists of what was set up: each searches and pages, and every entry can be added, changed and removed.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import type { Schemas } from "./api";
import type { Values } from "./forms";
import { Button, Modal, Pages, Wrong, useNow } from "./parts";
import { ago } from "./words";

const LIMIT = 50;

/** The search and the page of one list. */
export function useList() {
  const [search, setSearch] = useState("");
  const [offset, setOffset] = useState(0);
  return {
    search,
    offset,
    setOffset,
    setSearch: (s: string) => {
      setSearch(s);
      setOffset(0);
    },
    query: { search, limit: LIMIT, offset },
  };
}

export function Page({
  title,
  about,
  add,
  list,
  total,
  heads,
  wide = [],
  things = title.toLowerCase(),
  children,
}: {
  title: string;
  /** what is searched, where the title does not say it */
  things?: string;
  about: string;
  add?: ReactNode;
  list: ReturnType<typeof useList>;
  total: number;
  heads: string[];
  /** of the heads, those that narrow windows have no room for; their cells are max-md:hidden as well */
  wide?: string[];
  children: ReactNode;
}) {
  useEffect(() => {
    document.title = `${title} · Vigila`;
  }, [title]);
  return (
    <>
      <div className="flex items-end justify-between gap-4">
        <div>
          <h1 className="text-2xl font-bold">{title}</h1>
          <p className="mt-0.5 text-soft">{about}</p>
        </div>
        <div className="flex gap-2">
          <input
            type="search"
            aria-label={`Search the ${things}`}
            placeholder={`Search the ${things}`}
            className="w-56 rounded-md border border-rule bg-sheet px-2.5 py-1.5 text-sm placeholder:text-soft"
            value={list.search}
            onChange={(e) => list.setSearch(e.target.value)}
          />
          {add}
        </div>
      </div>
      <table className="mt-4 w-full text-left">
        <thead className="border-b border-rule text-xs text-soft">
          <tr>
            {heads.map((h) => (
              <th key={h} className={`px-3 pb-1.5 font-normal ${wide.includes(h) ? "max-md:hidden" : ""}`}>
                {h}
              </th>
            ))}
            <th className="sr-only">What can be done</th>
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
      {total === 0 && list.search && <p className="mt-4 text-soft">Nothing matches “{list.search}”.</p>}
      <Pages total={total} limit={LIMIT} offset={list.offset} go={list.setOffset} />
    </>
  );
}

export function Known({ of, children }: { of: Schemas["AsOf"]; children: ReactNode }) {
  const now = useNow();
  if (of.known) return <>{children}</>;
  return (
    <span>
      <strong>? can't be read</strong>
      {of.at && `, last ${ago(of.at, now)}`}
      {of.problem && <span className="block text-sm text-soft">{of.problem}</span>}
    </span>
  );
}

/** Asks once more before something is forgotten. */
export function Forget({
  what,
  about,
  close,
  act,
  key_,
}: {
  what: string;
  about: string;
  close: () => void;
  act: () => Promise<unknown>;
  key_: string;
}) {
  const client = useQueryClient();
  const go = useMutation({
    mutationFn: act,
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: [key_] });
      close();
    },
  });
  return (
    <Modal open close={close} title={`Forget ${what}`} about={about}>
      {go.error && <Wrong error={go.error} />}
      <div className="flex justify-end gap-2">
        <Button onClick={close}>Cancel</Button>
        <Button strong disabled={go.isPending} onClick={() => go.mutate()}>
          Forget {what}
        </Button>
      </div>
    </Modal>
  );
}

export const text = (v: Values, k: string) => String(v[k] || "");
/** What was written with spaces or commas between. */
export const words = (v: Values, k: string) =>
  text(v, k)
    .split(/[\s,]+/)
    .filter(Boolean);
export const by = (roster?: string) => (roster ? `Declared by roster ${roster}.` : "");

/** The first few of many names. */
export function few(all: string[]): string {
  return all.length > 6 ? `${all.slice(0, 6).join(", ")} and ${all.length - 6} more` : all.join(", ");
}
