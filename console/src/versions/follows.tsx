// Versions that are followed: what each follow is at, what it does not take and why; and taking one all the same.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas, api, got } from "../shared/api";
import { Page, useList } from "../shared/lists";
import { Button, Modal, Wrong, useNow } from "../shared/parts";
import { ago, count, span } from "../shared/words";

type Follow = Schemas["Follow"];

/** How it is with a follow; the proposal that it names is a link. */
function Says({ of: f }: { of: Follow }) {
  const [before = "", after] = f.proposal ? f.says.split(`#${f.proposal}`) : [f.says];
  return (
    <>
      {f.needs_you && (
        <span aria-hidden className="mr-1.5 text-drifted">
          ◆
        </span>
      )}
      <span className={f.needs_you ? "" : "text-soft"}>
        {before.slice(0, 1).toUpperCase() + before.slice(1)}
        {f.proposal && (
          <Link className="underline" to={`/proposals/${f.proposal}`}>
            proposal #{f.proposal}
          </Link>
        )}
        {after}
      </span>
    </>
  );
}

export function FollowsPage() {
  const list = useList();
  const [open, setOpen] = useState<string>();
  const follows = useQuery({
    queryKey: ["follows", list.search, list.offset],
    queryFn: () => got(api.GET("/follows", { params: { query: list.query } })),
    placeholderData: keepPreviousData,
    refetchInterval: 15_000,
  });
  if (follows.error && !follows.data) return <Wrong error={follows.error} />;
  if (!follows.data) return <p className="text-soft">Reading what is followed…</p>;
  const { items, total } = follows.data;
  return (
    <>
      <Page
        title="Versions"
        about={
          total || list.search
            ? `${count(total, "follow")}: the newest version that fits is found, and written to a versions file.`
            : "Nothing is followed. A follow is declared in a roster; vigila schema follow prints its format."
        }
        list={list}
        total={total}
        heads={["Follow", "Takes", "At", "What is going on"]}
      >
        {items.map((f) => (
          <tr key={f.name} className="border-b border-rule align-baseline" data-follow={f.name}>
            <td className="w-1/4 px-3 py-2">
              <button className="font-bold underline" onClick={() => setOpen(f.name)}>
                {f.name}
              </button>
              <span className="block text-sm break-all text-soft">{f.image}</span>
            </td>
            <td className="px-3 font-mono text-sm">{f.wants}</td>
            <td className="px-3 font-mono text-sm">{f.version || "nothing"}</td>
            <td className="px-3 text-sm">
              <Says of={f} />
            </td>
            <td className="py-1.5 text-right">
              <Button onClick={() => setOpen(f.name)}>See all of it</Button>
            </td>
          </tr>
        ))}
      </Page>
      {open && <FollowDialog name={open} close={() => setOpen(undefined)} />}
    </>
  );
}

function FollowDialog({ name, close }: { name: string; close: () => void }) {
  const client = useQueryClient();
  const now = useNow();
  const [version, setVersion] = useState("");
  const follow = useQuery({
    queryKey: ["follows", "one", name],
    queryFn: () => got(api.GET("/follows/{name}", { params: { path: { name } } })),
  });
  const look = useMutation({
    mutationFn: (take: string) =>
      got(api.POST("/follows/{name}/look", { params: { path: { name } }, body: { take } })),
    onSettled: () => void client.invalidateQueries({ queryKey: ["follows"] }),
  });
  const f = follow.data;
  return (
    <Modal open close={close} wide title={name} about={f?.about}>
      {follow.error && <Wrong error={follow.error} />}
      {f && (
        <>
          <p>
            <Says of={f} />
          </p>
          <dl className="mt-3 grid grid-cols-[7rem_1fr] gap-y-1 text-sm">
            <dt className="text-soft">follows</dt>
            <dd className="break-all">
              {f.image} <span className="font-mono">{f.wants}</span>
            </dd>
            <dt className="text-soft">writes to</dt>
            <dd>
              <span className="font-mono break-all">{f.file}</span> in {f.repo} {f.ref}
            </dd>
            <dt className="text-soft">laid over</dt>
            <dd>
              {f.used_by.length === 0 && "no ward"}
              {f.used_by.map((w, i) => (
                <span key={w}>
                  {i > 0 && ", "}
                  <Link className="underline" to={`/wards/${encodeURIComponent(w)}`}>
                    {w}
                  </Link>
                </span>
              ))}
            </dd>
            <dt className="text-soft">declared in</dt>
            <dd>
              {f.declared_at} of roster {f.roster}
            </dd>
            <dt className="text-soft">looked</dt>
            <dd>
              {f.looked ? ago(f.looked, now) : "not yet"}
              {f.next && Date.parse(f.next) > now && `, and again in ${span(Date.parse(f.next) - now)}`}
            </dd>
          </dl>
          {(f.passed.length > 0 || f.beyond) && (
            <Table
              heads={["Not taken", "Why"]}
              rows={[
                ...(f.beyond ? [[f.beyond, `it is out of ${f.wants}`]] : []),
                ...f.passed.map((p) => [p.version, p.why]),
              ]}
            />
          )}
          {f.history.length > 0 && (
            <Table
              heads={["Was at", "Since", "Commit"]}
              rows={f.history.map((h) => [h.version, ago(h.at, now), (h.commit ?? "").slice(0, 7)])}
            />
          )}
          {look.error && <Wrong error={look.error} />}
          <form
            className="mt-5 flex flex-wrap items-end justify-end gap-2"
            onSubmit={(e) => {
              e.preventDefault();
              look.mutate(version.trim());
            }}
          >
            <Button disabled={look.isPending} onClick={() => look.mutate("")}>
              {look.isPending ? "Looking…" : "Look now"}
            </Button>
            <label className="text-sm">
              <span className="mr-2 text-soft">Take, whatever it is</span>
              <input
                value={version}
                onChange={(e) => setVersion(e.target.value)}
                placeholder={f.passed[0]?.version ?? f.beyond ?? "2.9.0"}
                className="w-36 rounded-md border border-rule bg-paper px-2.5 py-1.5 font-mono"
              />
            </label>
            <Button changes strong type="submit" disabled={!version.trim() || look.isPending}>
              Take it
            </Button>
          </form>
        </>
      )}
    </Modal>
  );
}

function Table({ heads, rows }: { heads: string[]; rows: string[][] }) {
  return (
    <table className="mt-4 w-full text-left text-sm">
      <thead className="border-b border-rule text-xs text-soft">
        <tr>
          {heads.map((h) => (
            <th key={h} className="pr-3 pb-1 font-normal">
              {h}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((r) => (
          <tr key={r.join(" ")} className="border-b border-rule align-baseline">
            {r.map((x, i) => (
              <td key={i} className={`py-1 pr-3 ${i === 0 ? "font-mono whitespace-nowrap" : ""}`}>
                {x}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}
