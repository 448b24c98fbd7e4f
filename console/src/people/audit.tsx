// What was done, by whom, and what came of it.
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas, api, got } from "../shared/api";
import { Page, useList } from "../shared/lists";
import { Button, Wrong, useNow } from "../shared/parts";
import { ago, count, moment } from "../shared/words";

type Entry = Schemas["AuditEntry"];

export function AuditPage() {
  const list = useList();
  const now = useNow();
  const [who, setWho] = useState("");
  const audit = useQuery({
    queryKey: ["audit", who, list.search, list.offset],
    queryFn: () => got(api.GET("/audit", { params: { query: { ...list.query, who: who || undefined } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
  });
  const verify = useMutation({ mutationFn: () => got(api.GET("/audit/verify")) });
  if (audit.error && !audit.data) return <Wrong error={audit.error} />;
  if (!audit.data) return <p className="text-soft">Reading what was done…</p>;
  const { items, total } = audit.data;
  return (
    <>
      <Page
        title="What was done"
        things="account"
        about={
          who
            ? `${count(total, "thing")} by ${who}, the newest first.`
            : total || list.search
              ? "By whom, and what came of it; the newest first. Each entry is bound to the one before."
              : "Nothing was done yet."
        }
        add={
          <>
            {who && <Button onClick={() => setWho("")}>By anybody</Button>}
            <Button disabled={verify.isPending} onClick={() => verify.mutate()}>
              Verify it
            </Button>
          </>
        }
        list={list}
        total={total}
        heads={["When", "What", "By", "Came to"]}
      >
        {items.map((e) => (
          <tr key={e.number} className="border-b border-rule align-baseline" data-entry={e.number}>
            <td className="px-3 py-2 text-sm whitespace-nowrap text-soft" title={moment(e.at)}>
              {ago(e.at, now)}
              <span className="block text-xs">#{e.number}</span>
            </td>
            <td className="px-3 text-sm">
              <What of={e} />
            </td>
            <td className="px-3 text-sm whitespace-nowrap">
              <button
                type="button"
                className="underline decoration-rule underline-offset-2"
                onClick={() => {
                  setWho(e.by);
                  list.setOffset(0);
                }}
              >
                {e.by}
              </button>
              {e.through && <span className="block text-soft">{e.through}</span>}
            </td>
            <td className="max-w-md px-3 text-sm">
              <CameTo of={e} />
            </td>
          </tr>
        ))}
      </Page>
      {verify.error && <Wrong error={verify.error} />}
      {verify.data?.problem && (
        <Wrong error={new Error(`This is not what was written: ${verify.data.problem}`)} />
      )}
      {verify.data && !verify.data.problem && (
        <p role="status" className="mt-4 text-sm">
          Entries #{verify.data.first_number} to #{verify.data.last_number} are what was written. Digest of
          the last: <span className="font-mono text-xs break-all">{verify.data.digest}</span>
        </p>
      )}
    </>
  );
}

/** A value as people write it: of a commit its first letters. */
const brief = (v: string) => (/^[0-9a-f]{40}$/.test(v) ? v.slice(0, 7) : v);

/** What was asked for, of what, and what is another now. */
function What({ of: e }: { of: Entry }) {
  const changed = [...new Set([...Object.keys(e.was ?? {}), ...Object.keys(e.is ?? {})])].sort();
  const wished = Object.entries(e.wished ?? {});
  return (
    <>
      <strong>{e.verb}</strong> {e.of_what}{" "}
      {e.of_what === "ward" && e.name.includes("@") ? (
        <Link to={`/wards/${e.name}`} className="underline decoration-rule underline-offset-2">
          {e.name}
        </Link>
      ) : (
        <strong>{e.name}</strong>
      )}
      {wished.length > 0 && (
        <span className="block text-soft">
          {wished.map(([k, v]) => `${k.replaceAll("_", " ")} ${brief(v)}`).join(", ")}
        </span>
      )}
      {changed.map((k) => (
        <span key={k} className="block">
          {k}: <span className="text-soft">{e.was?.[k] || "nothing"}</span> → {e.is?.[k] || "nothing"}
        </span>
      ))}
    </>
  );
}

function CameTo({ of: e }: { of: Entry }) {
  if (e.came_to === "begun") {
    return <span className="text-soft">not known what came of it</span>;
  }
  return (
    <>
      {e.came_to === "done" ? (
        <span className="text-soft">done</span>
      ) : (
        <span>
          <span className="text-failing">▲</span> {e.came_to}
        </span>
      )}
      {e.why && <span className="block text-soft">{e.why}</span>}
    </>
  );
}
