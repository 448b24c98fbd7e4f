// One proposal: what it would do to the clusters, beside the lines that it changes.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { Lines, Whole } from "../runs/run";
import { type Schemas, api, got } from "../shared/api";
import { Button, Modal, Panel, Reason, Wrong, useNow } from "../shared/parts";
import { ago, count, moment } from "../shared/words";
import { Says } from "./page";

type Proposal = Schemas["Proposal"];
type Effect = Schemas["Effect"];

const over = (p: Proposal) => p.standing === "merged" || p.standing === "withdrawn";

export function ProposalPage() {
  const number = Number(useParams().number);
  const now = useNow();
  const [open, setOpen] = useState<"merge" | "withdraw">();
  const proposal = useQuery({
    queryKey: ["proposals", "one", number],
    queryFn: () => got(api.GET("/proposals/{number}", { params: { path: { number } } })),
  });
  const p = proposal.data;
  const effect = useQuery({
    queryKey: ["proposals", "effect", number, p?.commit],
    enabled: !!p && !over(p) && p.standing !== "opening",
    staleTime: 30_000,
    queryFn: () => got(api.GET("/proposals/{number}/effect", { params: { path: { number } } })),
  });
  useEffect(() => {
    document.title = `#${number} ${p?.title ?? ""} · Vigila`;
  }, [number, p?.title]);
  if (proposal.error) return <Wrong error={proposal.error} />;
  if (!p) return <p className="text-soft">Reading the proposal…</p>;
  return (
    <>
      <p className="text-sm text-soft">
        <Link to="/proposals" className="underline">
          Proposals
        </Link>{" "}
        / {p.repo}
      </p>
      <div className="mt-1 flex flex-wrap items-start justify-between gap-4">
        <div className="min-w-0">
          <h1 className="text-2xl font-bold break-words">
            #{p.number} {p.title}
          </h1>
          <p className="mt-0.5 text-soft">
            <span className="font-mono text-sm break-all">{p.branch}</span> into{" "}
            <span className="font-mono text-sm">{p.base}</span>, asked for {ago(p.opened, now)} by {p.by}
          </p>
        </div>
        {!over(p) && <Actions p={p} merge={() => setOpen("merge")} withdraw={() => setOpen("withdraw")} />}
      </div>
      <p className="mt-4 text-lg" data-says>
        <Says of={p} />
      </p>
      {p.request && (
        <p className="text-soft">
          Reviewed as{" "}
          <a className="underline" href={p.request.url || undefined} target="_blank" rel="noreferrer">
            request {p.request.number} on its code host
          </a>
          {p.request.host_says && `; its checks: ${p.request.host_says}`}
          {p.request.tags && p.request.tags.length > 0 && `; ${p.request.tags.join(", ")}`}
        </p>
      )}
      {p.result && (
        <p className="text-soft">
          {p.base} holds it since <span className="font-mono text-sm">{p.result.slice(0, 7)}</span>,{" "}
          {moment(p.ended ?? "")}
        </p>
      )}
      {!p.own && !over(p) && p.commit && (
        <p className="text-soft">
          Others have written to its branch; it is at{" "}
          <span className="font-mono">{p.commit.slice(0, 7)}</span>.
        </p>
      )}
      {p.why && <p className="mt-3 max-w-[75ch] whitespace-pre-wrap">{p.why}</p>}
      {effect.isLoading && <p className="mt-6 text-soft">Rendering both sides, and trying it out…</p>}
      {effect.error && <Wrong error={effect.error} />}
      {effect.data && (
        <EffectOf
          e={effect.data}
          again={() => void effect.refetch()}
          busy={effect.isFetching}
          at={ago(new Date(effect.dataUpdatedAt).toISOString(), now)}
        />
      )}
      {open === "merge" && <Merge p={p} effect={effect.data} close={() => setOpen(undefined)} />}
      {open === "withdraw" && <Withdraw p={p} close={() => setOpen(undefined)} />}
    </>
  );
}

function useChange(done: () => void = () => {}) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (f: () => Promise<unknown>) => f(),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["proposals"] });
      done();
    },
  });
}

function Actions({ p, merge, withdraw }: { p: Proposal; merge: () => void; withdraw: () => void }) {
  const approve = useChange();
  return (
    <div className="flex flex-wrap justify-end gap-2">
      <Button changes="review" onClick={withdraw} disabled={p.standing === "opening"}>
        Withdraw
      </Button>
      <Button
        changes="review"
        tip="Say that you have read it as it is now, and want it"
        disabled={p.standing !== "open" || approve.isPending}
        onClick={() =>
          approve.mutate(() =>
            got(
              api.POST("/proposals/{number}/approvals", {
                params: { path: { number: p.number } },
                body: { commit: p.commit },
              }),
            ),
          )
        }
      >
        Approve
      </Button>
      <Button
        changes="review"
        strong
        disabled={p.standing !== "open" || !!p.lacks}
        title={p.lacks && `Waits for approvals: ${p.lacks}`}
        onClick={merge}
      >
        Merge
      </Button>
      {approve.error && <Wrong error={approve.error} />}
    </div>
  );
}

/** What stands against a merge. */
function against(e?: Effect): string[] {
  if (!e) return [];
  return [
    ...e.problems.map((x) => `${x.file}:${x.line}: ${x.text}`),
    ...e.effects.flatMap((w) => [
      ...(w.problem ? [`${w.ward} could not be read any more: ${w.problem}`] : []),
      ...(w.waits ? [`${w.ward} would declare nothing`] : []),
      ...w.guards.map((g) => `guard ${g.name} would stop ${w.ward}: ${g.text}`),
      ...w.refusals.map((r) => `${r.kind} ${r.name} of ${w.ward} would be refused: ${r.says}`),
    ]),
  ];
}

function Merge({ p, effect, close }: { p: Proposal; effect?: Effect; close: () => void }) {
  const act = useChange(close);
  const [why, setWhy] = useState("");
  const wrong = against(effect);
  return (
    <Modal
      open
      close={close}
      wide={wrong.length > 0}
      title={`Merge #${p.number} into ${p.base}?`}
      about={
        effect
          ? effect.effects.length === 0
            ? "It changes no ward."
            : `It changes ${effect.effects.map((w) => w.ward).join(", ")}. Wards that sync by themselves do so at once.`
          : "What it would do is not known yet."
      }
    >
      {wrong.length > 0 && (
        <ul className="space-y-1.5">
          {wrong.map((x) => (
            <li key={x} className="break-words">
              <span aria-hidden className="mr-2 text-failing">
                ▲
              </span>
              {x}
            </li>
          ))}
        </ul>
      )}
      {act.error && <Wrong error={act.error} />}
      {p.kind === "lane" && act.error && <Reason value={why} set={setWhy} />}
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={close}>Leave it</Button>
        <Button
          changes="review"
          strong
          disabled={act.isPending}
          onClick={() =>
            act.mutate(() =>
              got(
                api.POST("/proposals/{number}/merge", {
                  params: { path: { number: p.number } },
                  body: { commit: p.commit, why },
                }),
              ),
            )
          }
        >
          {wrong.length > 0 ? "Merge all the same" : "Merge"}
        </Button>
      </div>
    </Modal>
  );
}

function Withdraw({ p, close }: { p: Proposal; close: () => void }) {
  const [why, setWhy] = useState("");
  const act = useChange(close);
  return (
    <Modal
      open
      close={close}
      title={`Withdraw #${p.number}?`}
      about={
        p.own
          ? "Its branch is deleted, and nothing else changes. What a follow or a lane proposed is not proposed again by itself."
          : "Others have written to its branch, so that one stays."
      }
    >
      <Reason value={why} set={setWhy} />
      {act.error && <Wrong error={act.error} />}
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={close}>Leave it</Button>
        <Button
          changes="review"
          strong
          disabled={act.isPending}
          onClick={() =>
            act.mutate(() =>
              got(
                api.POST("/proposals/{number}/withdraw", {
                  params: { path: { number: p.number } },
                  body: { why },
                }),
              ),
            )
          }
        >
          Withdraw
        </Button>
      </div>
    </Modal>
  );
}

export function EffectOf({
  e,
  again,
  busy,
  at,
  narrow,
}: {
  e: Effect;
  narrow?: boolean; // beside something else: files first, one below the other
  again: () => void;
  busy: boolean;
  at: string;
}) {
  if (e.conflicts.length > 0) {
    return (
      <Panel title={`Does not go together with ${e.base}`}>
        <p className="px-3.5 pt-3">{e.base} has changed these as well, each in its own way:</p>
        <ul className="px-3.5 pt-1.5 pb-3 font-mono text-sm">
          {e.conflicts.map((f) => (
            <li key={f}>{f}</li>
          ))}
        </ul>
      </Panel>
    );
  }
  return (
    <div
      className={`grid items-start gap-5 ${narrow ? "" : "mt-6 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]"}`}
    >
      <Panel
        title={
          e.effects.length === 0 ? "It changes no ward" : `It changes ${count(e.effects.length, "ward")}`
        }
        side={
          <button
            className="font-normal text-soft underline disabled:opacity-50"
            disabled={busy}
            onClick={again}
            title={`Tried out ${at}; render both sides and try it out again`}
          >
            {busy ? "Trying it out…" : `As of ${at}; try it out again`}
          </button>
        }
      >
        <div className="space-y-5 px-3.5 py-3">
          {e.problems.map((x) => (
            <p key={`${x.file}:${x.line} ${x.text}`} className="break-words">
              <span aria-hidden className="mr-2 text-failing">
                ▲
              </span>
              <span className="font-mono text-sm">
                {x.file}:{x.line}
              </span>{" "}
              {x.text}
            </p>
          ))}
          {e.effects.map((w) => (
            <OfWard key={w.ward} w={w} />
          ))}
          {e.same > 0 && (
            <p className="text-sm text-soft">
              {count(e.same, "other ward")} {e.same === 1 ? "reads" : "read"} what it changes, and{" "}
              {e.same === 1 ? "declares" : "declare"} the same as before.
            </p>
          )}
        </div>
      </Panel>
      <Panel title={count(e.files.length, "file")}>
        <ul className="divide-y divide-rule">
          {e.files.map((f) => (
            <li key={f.path} className="px-3.5 py-2.5">
              <p className="font-mono text-sm break-all">
                {f.path}{" "}
                <span className="font-sans text-soft">
                  {{ added: "new", removed: "gone", changed: "" }[f.change]}
                </span>
              </p>
              {f.hidden ? <p className="text-sm text-soft">{f.hidden}</p> : <Patch text={f.patch ?? ""} />}
            </li>
          ))}
        </ul>
      </Panel>
    </div>
  );
}

function OfWard({ w }: { w: Schemas["WardEffect"] }) {
  const wrong = [
    ...(w.problem ? [`It could not be read any more: ${w.problem}`] : []),
    ...(w.waits ? [`It would declare nothing: it ${w.waits}`] : []),
    ...w.guards.map((g) => `Guard ${g.name} stops it: ${g.text}`),
    ...(w.breaks ?? [])
      .filter((f) => !w.guards.some((g) => g.name === `rule:${f.rule}`))
      .map(
        (f) =>
          `It would break rule ${f.rule}, which ${f.says === "refuse" ? "refuses its next change" : "warns"}: ${f.kind}/${f.name}: ${f.text}`,
      ),
    ...w.refusals.map((r) => `${r.kind} ${r.name} would be refused: ${r.says}`),
  ];
  return (
    <section aria-label={w.ward} data-effect={w.ward}>
      <h3 className="font-bold">
        {w.change === "added" ? (
          w.ward
        ) : (
          <Link className="underline" to={`/wards/${encodeURIComponent(w.ward)}`}>
            {w.ward}
          </Link>
        )}{" "}
        <span className="text-sm font-normal text-soft">
          {w.change === "added" && "new"}
          {w.change === "removed" &&
            `its file is gone, or it goes elsewhere: its objects ${w.dismantles ? "are removed with it (keep.on_removal: dismantle)" : "stay, and are listed as left behind"}`}
          {w.change === "changed" && w.filed && "its own file changes"}
        </span>
      </h3>
      {wrong.map((x) => (
        <p key={x} className="break-words">
          <span aria-hidden className="mr-2 text-failing">
            ▲
          </span>
          {x}
        </p>
      ))}
      {w.change !== "removed" &&
        !w.problem &&
        !w.untried &&
        w.refusals.length === 0 &&
        w.objects.length > 0 && (
          <p className="text-sm text-soft">Tried out: the API server of {w.cluster} takes it.</p>
        )}
      {w.untried && <p className="text-sm text-soft">Not tried out on the API server: {w.untried}</p>}
      {w.canaries.map((of) => (
        <p key={of} className="text-sm text-soft">
          {of} is released in shares.
        </p>
      ))}
      {w.change !== "removed" && !w.problem && w.objects.length === 0 && (
        <p className="text-sm text-soft">No object changes.</p>
      )}
      <ul className="mt-1.5 space-y-2">
        {w.objects.map((o) => (
          <li key={o.key}>
            <p>
              <strong>{o.name}</strong> <span className="text-soft">{o.kind}</span>{" "}
              <span className="text-sm text-soft">
                {{ added: "new", removed: "gone", changed: "" }[o.change]}
              </span>
            </p>
            {o.change === "changed" ? (
              <Lines of={o.fields} />
            ) : (
              <Whole of={o.fields} gone={o.change === "removed"} />
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The lines of a change in git's format, without its heading. */
function Patch({ text }: { text: string }) {
  const at = text.indexOf("\n@@");
  const rows =
    at < 0
      ? []
      : text
          .slice(at + 1)
          .replace(/\n$/, "")
          .split("\n");
  return (
    <pre tabIndex={0} className="mt-1.5 overflow-x-auto text-[13px] leading-snug">
      {rows.map((row, i) =>
        row.startsWith("@@") ? (
          i > 0 && (
            <span key={i} className="block text-soft">
              …
            </span>
          )
        ) : (
          <span
            key={i}
            className={`block ${row.startsWith("+") ? "bg-lamp-sheet font-bold" : row.startsWith("-") ? "text-soft line-through" : "text-soft"}`}
          >
            {row || " "}
          </span>
        ),
      )}
    </pre>
  );
}
