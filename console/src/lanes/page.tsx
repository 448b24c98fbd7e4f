// Lanes: each in a line, with the lot that every stop has.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { type Schemas, api, got } from "../shared/api";
import { Page, useList } from "../shared/lists";
import { Wrong } from "../shared/parts";
import { count } from "../shared/words";
import { Mark, lotAt } from "./picture";

/** How loud a lane or a stop is: what failed stands out, what waits for somebody a little. */
export function Says({ text, loud, bad }: { text: string; loud: boolean; bad?: boolean }) {
  return (
    <span>
      {(loud || bad) && (
        <span aria-hidden className={`mr-1.5 ${bad ? "text-failing" : "text-drifted"}`}>
          {bad ? "▲" : "◆"}
        </span>
      )}
      <span className={`inline-block first-letter:uppercase ${loud || bad ? "" : "text-soft"}`}>{text}</span>
    </span>
  );
}

export const failed = (l: Schemas["Lane"]) => l.stops.some((s) => s.passage?.failed || s.problem);

export function LanesPage() {
  const list = useList();
  const lanes = useQuery({
    queryKey: ["lanes", "list", list.query],
    queryFn: () => got(api.GET("/lanes", { params: { query: list.query } })),
    placeholderData: keepPreviousData,
  });
  if (lanes.error && !lanes.data) return <Wrong error={lanes.error} />;
  if (!lanes.data) return <p className="text-soft">Reading the lanes…</p>;
  const { items, total } = lanes.data;
  return (
    <Page
      title="Lanes"
      about={
        total > 0
          ? `${count(total, "way")} of changes from environment to environment`
          : "No lane is declared. A lane is a file in a roster; vigila schema lane prints its format."
      }
      list={list}
      total={total}
      heads={["Lane", "Which lot is where", "What is going on"]}
    >
      {items.map((l) => (
        <tr key={l.name} className="border-b border-rule align-baseline" data-lane={l.name}>
          <td className="px-3 py-2.5">
            <Link className="font-bold underline" to={`/lanes/${l.name}`}>
              {l.name}
            </Link>
            {l.about && <span className="block text-sm text-soft">{l.about}</span>}
          </td>
          <td className="px-3">
            <ol className="flex flex-wrap items-baseline gap-x-5 gap-y-1 text-sm">
              {l.stops.map((s) => (
                <li key={s.name} className="whitespace-nowrap" title={s.says}>
                  <Mark of={s} /> {s.name} <strong>{lotAt(s)}</strong>
                </li>
              ))}
            </ol>
          </td>
          <td className="px-3 text-sm">
            <Says text={l.says} loud={l.needs_you} bad={failed(l)} />
          </td>
        </tr>
      ))}
    </Page>
  );
}
