// What can be done about a ward beside a run: each asks in a dialog of its own.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { Guards, Plan } from "../runs/run";
import { path, start, useAct } from "../shared/act";
import { type Ward, api, got } from "../shared/api";
import { Button, Hours, Modal, Reason, Wrong } from "../shared/parts";
import { ago, short, span } from "../shared/words";

/** The whole plan of a sync beforehand, with the guards that would stop it. */
export function Preview({ ward: w, close }: { ward: Ward; close: () => void }) {
  const [allowed, allow] = useState<string[]>([]);
  const act = useAct(w, close);
  const plan = useQuery({
    queryKey: ["ward", w.id, "preview", w.revision?.id, w.applied?.id],
    retry: false,
    queryFn: () =>
      got(api.POST("/wards/{ward}/preview", { ...path(w), body: { kind: "sync", retry: !!w.rejected } })),
  });
  const guards = plan.data?.guards ?? [];
  const open = guards.filter((g) => !allowed.includes(g.name));
  const [why, setWhy] = useState("");
  const reasoned = allowed.some((n) => n.startsWith("rule:")); // to let a rule be broken needs a reason
  const refused = plan.data?.objects.some((o) => o.refused);
  return (
    <Modal
      open
      close={close}
      wide
      title={`What a sync of ${w.id} would do`}
      about={
        plan.data?.revision
          ? `To ${short(plan.data.revision)} ${plan.data.revision.subject}. Tried out on the API server; nothing is done yet.`
          : "Tried out on the API server; nothing is done yet."
      }
    >
      {plan.isLoading && <p className="text-soft">Trying it out on the API server…</p>}
      {plan.error && <Wrong error={plan.error} />}
      {plan.data && (
        <div className="space-y-4">
          <Guards of={guards} allowed={allowed} allow={allow} />
          {reasoned && <Reason value={why} set={setWhy} />}
          {plan.data.canaries?.map((c) => (
            <p key={c.of} className="text-behind">
              ◐ {c.of} goes on as a canary:{" "}
              {c.shares
                .map(
                  (s) =>
                    `${s.percent} % ${s.person ? "until a person says" : `for ${span((s.seconds ?? 0) * 1000)}`}`,
                )
                .join(", ")}
              , then all; back by itself after {span(c.within_seconds * 1000)}.
            </p>
          ))}
          {!!plan.data.before_canary?.length && (
            <p>Before it, and put back should it go back: {plan.data.before_canary.join(", ")}.</p>
          )}
          {!!plan.data.tasks_before_canary?.length && (
            <p>Before it, and not undone should it go back: {plan.data.tasks_before_canary.join(", ")}.</p>
          )}
          <Plan of={plan.data.objects} />
        </div>
      )}
      {act.error && <Wrong error={act.error} />}
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={close}>Leave it</Button>
        <Button
          changes="sync"
          strong
          disabled={
            !plan.data ||
            plan.data.objects.length === 0 ||
            open.length > 0 ||
            act.isPending ||
            (reasoned && !why.trim())
          }
          onClick={() =>
            act.mutate(() => start(w, { kind: "sync", allow: allowed, why, retry: !!w.rejected }))
          }
        >
          {open.length > 0
            ? `Sync, once ${open.length === 1 ? "it is" : "they are"} allowed`
            : refused
              ? "Sync all the same"
              : allowed.length > 0
                ? `Sync, and allow ${allowed.length === 1 ? "it" : "them"}`
                : "Sync"}
        </Button>
      </div>
    </Modal>
  );
}

/** A commit that makes git say what the cluster holds. */
export function Propose({ ward: w, close }: { ward: Ward; close: () => void }) {
  const act = useMutation({
    mutationFn: () => got(api.POST("/wards/{ward}/proposals", { ...path(w), body: {} })),
  });
  return (
    <Modal
      open
      close={close}
      title="Let git say what the cluster holds"
      about={`A commit on a branch of its own takes ${w.path || "the repository"} back to ${short(w.applied)} ${w.applied?.subject ?? ""}, on top of ${w.ref}. The cluster is left alone.`}
    >
      {act.error && <Wrong error={act.error} />}
      {act.data && (
        <p>
          <Link className="font-bold underline" to={`/proposals/${act.data.number}`}>
            Proposal #{act.data.number}
          </Link>{" "}
          is on branch <span className="font-mono text-sm break-all">{act.data.branch}</span>, for{" "}
          {act.data.base}. Review and merge it, then release the ward.
        </p>
      )}
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={close}>{act.data ? "Close" : "Leave it"}</Button>
        {!act.data && (
          <Button strong disabled={act.isPending} onClick={() => act.mutate()}>
            Write the branch
          </Button>
        )}
      </div>
    </Modal>
  );
}

/** Revisions that automatic runs don't go to. */
export function Rejections({ ward: w, now, close }: { ward: Ward; now: number; close: () => void }) {
  const act = useAct(w);
  const list = useQuery({
    queryKey: ["rejections", w.id],
    queryFn: () => got(api.GET("/wards/{ward}/rejections", path(w))),
  });
  return (
    <Modal
      open
      close={close}
      wide
      title="Rejected revisions"
      about="Automatic runs don't go there; a sync by hand may, and a good end lifts the rejection."
    >
      {list.error && <Wrong error={list.error} />}
      {act.error && <Wrong error={act.error} />}
      {list.data?.items.length === 0 && <p>None is rejected.</p>}
      <ul className="space-y-3">
        {list.data?.items.map((r) => (
          <li key={r.revision.id} className="flex items-start justify-between gap-4">
            <span className="min-w-0">
              <span className="font-mono text-sm">{short(r.revision)}</span>{" "}
              <strong>{r.revision.subject}</strong>
              <span className="block text-sm text-soft">
                by {r.by}, {ago(r.at, now)}: {r.why}
              </span>
            </span>
            <Button
              changes="reject"
              disabled={act.isPending}
              onClick={() =>
                act.mutate(() =>
                  got(
                    api.DELETE("/wards/{ward}/rejections/{revision}", {
                      params: { path: { ward: w.id, revision: r.revision.id } },
                    }),
                  ),
                )
              }
            >
              Lift it
            </Button>
          </li>
        ))}
      </ul>
    </Modal>
  );
}

/** Nobody is told of the ward for a while; it stays on the board. */
export function Mute({ ward, close }: { ward: Ward; close: () => void }) {
  const [why, setWhy] = useState("");
  const [hours, setHours] = useState(2);
  const act = useAct(ward, close);
  return (
    <Modal
      open
      close={close}
      title={`Mute ${ward.id}`}
      about="Nobody is told of it until then. It stays on the board; what is wrong when the time is over is told then."
    >
      <Reason value={why} set={setWhy} />
      <Hours
        label="For"
        value={hours}
        set={setHours}
        of={[
          [1, "an hour"],
          [2, "2 hours"],
          [8, "8 hours"],
          [24, "a day"],
          [168, "a week"],
        ]}
      />
      {act.error && <Wrong error={act.error} />}
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={close}>Leave it</Button>
        <Button
          strong
          disabled={act.isPending || !why.trim()}
          onClick={() =>
            act.mutate(() =>
              got(
                api.POST("/mutes", {
                  body: {
                    subject: ward.id,
                    why,
                    until: new Date(Date.now() + hours * 3_600_000).toISOString(),
                  },
                }),
              ),
            )
          }
        >
          Mute
        </Button>
      </div>
    </Modal>
  );
}

export function Hold({ ward, open, close }: { ward: Ward; open: boolean; close: () => void }) {
  const [why, setWhy] = useState("");
  const [hours, setHours] = useState(0);
  const act = useAct(ward, close);
  return (
    <Modal
      open={open}
      close={close}
      title={`Hold ${ward.id}`}
      about="No automatic sync or restore runs until it is released."
    >
      <Reason value={why} set={setWhy} />
      <Hours
        label="Until"
        value={hours}
        set={setHours}
        of={[
          [0, "it is released"],
          [1, "in an hour"],
          [4, "in 4 hours"],
          [24, "tomorrow, this time"],
        ]}
      />
      {act.error && <Wrong error={act.error} />}
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={close}>Leave it</Button>
        <Button
          strong
          disabled={act.isPending}
          onClick={() =>
            act.mutate(() =>
              got(
                api.PUT("/wards/{ward}/hold", {
                  ...path(ward),
                  body: {
                    why,
                    until: hours ? new Date(Date.now() + hours * 3_600_000).toISOString() : undefined,
                  },
                }),
              ),
            )
          }
        >
          Hold
        </Button>
      </div>
    </Modal>
  );
}
