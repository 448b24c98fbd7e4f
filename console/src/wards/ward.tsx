// A ward's page: a plain sentence, what can be done about it, its objects, the chosen one closely, and the logbook.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { lookAndStart, path, start, useAct } from "./act";
import { Problem, type Schemas, type Ward, type WardDetail, api, got } from "./api";
import { Logbook, RollBack } from "./entries";
import { Closely, Outline, mostTelling } from "./objects";
import { Button, Health, Menu, Modal, Panel, Reason, Standing, Wrong, useNow } from "./parts";
import { Guards, Plan, Progress } from "./run";
import { ScaleChoice, WatchLine, marks, useScale } from "./watchline";
import { ago, count, headline, short, span } from "./words";

export function WardPage() {
  const { id = "" } = useParams();
  const now = useNow();
  const [chosen, choose] = useState<string>();
  const detail = useQuery({
    queryKey: ["ward", id],
    queryFn: () => got(api.GET("/wards/{ward}", { params: { path: { ward: id } } })),
    // What only the time changes is not told by an event: read again once the next look is due.
    refetchInterval: (q) => {
      const next = q.state.data?.ward.repository.next;
      return next ? Math.min(30_000, Math.max(2_000, Date.parse(next) - Date.now() + 1_500)) : 30_000;
    },
  });
  useEffect(() => {
    document.title = `${id} · Vigila`;
  }, [id]);
  if (detail.error && !detail.data) return <Wrong error={detail.error} />;
  if (!detail.data) return <p className="text-soft">Reading {id}…</p>;
  const d = detail.data;
  const object = d.outline.find((o) => o.key === chosen) ?? mostTelling(d.outline);
  return (
    <>
      <Head detail={d} now={now} />
      <Strip ward={d.ward} now={now} />
      {d.ward.run && <Progress run={d.ward.run} now={now} says={d.ward.says} />}
      <div className="mt-4 grid items-start gap-6 lg:grid-cols-[minmax(0,23rem)_minmax(0,1fr)_minmax(0,17rem)]">
        <Outline detail={d} chosen={object?.key} choose={choose} />
        {object ? (
          <Closely ward={d.ward} object={object} stay={() => choose(object.key)} now={now} />
        ) : (
          <span />
        )}
        <Logbook ward={d.ward} now={now} />
      </div>
      <Declaration detail={d} now={now} />
    </>
  );
}

type Dialog = "rollback" | "hold" | "preview" | "propose" | "rejections";

function Head({ detail, now }: { detail: WardDetail; now: number }) {
  const w = detail.ward;
  const [dialog, open] = useState<Dialog>();
  const act = useAct(w);
  const guarded = act.error instanceof Problem && act.error.guards.length > 0;
  const rev = w.applied ?? w.revision;
  const close = () => open(undefined);
  return (
    <div className="flex flex-wrap items-start justify-between gap-x-6 gap-y-3">
      <div className="min-w-96 flex-1 basis-0">
        <p>
          {w.name} <span className="text-soft">@{w.cluster}</span>
          {w.owner && ` · kept by ${w.owner}`} · <span className="font-mono text-sm">{w.repo}</span> {w.ref}
          {w.path && ` · ${w.path}`}
          {w.form && w.form !== "plain" && ` · ${[w.form, w.chart].filter(Boolean).join(" ")}`}
        </p>
        <h1 className="mt-1 text-2xl leading-tight font-bold text-pretty" data-says>
          {headline(w, now)}
        </h1>
        <p className="mt-1 text-soft">
          {rev && (
            <>
              At <span className="font-mono text-sm">{short(rev)}</span> {rev.subject}.{" "}
            </>
          )}
          {w.todo && (w.todo.endsWith(".") ? w.todo : `${w.todo}.`)}
        </p>
        <p className="mt-0.5 text-sm text-soft">
          <Standing is={w.standing} word />
          {w.pending > 0 &&
            `${w.standing === "behind" ? ", " : " · behind by "}${count(w.pending, "object")}`}
          {w.drifted_fields > 0 && w.standing === "drifted" && `, ${count(w.drifted_fields, "field")}`}
          {w.contested > 0 && `, ${count(w.contested, "field")}`}
          {(w.additions ?? 0) > 0 && ` · +${w.additions} by others`} ·{" "}
          <Health is={w.health} reason={w.health_reason} /> ·{" "}
          <AsOf of={w.repository} what="repository" now={now} /> ·{" "}
          <AsOf of={w.live} what="cluster" now={now} live />
        </p>
      </div>
      <div className="flex gap-2.5">
        {w.run ? (
          <Button
            changes
            strong
            tip="Stop after the calls that are on their way; what was applied stays"
            onClick={() => act.mutate(() => got(api.DELETE("/wards/{ward}/runs/current", path(w))))}
          >
            Stop
          </Button>
        ) : (
          <Primary
            ward={w}
            busy={act.isPending}
            sync={() =>
              (w.guards?.length ?? 0) > 0
                ? open("preview")
                : act.mutate(() => lookAndStart(w, { kind: "sync", retry: !!w.rejected }))
            }
            restore={() => act.mutate(() => start(w, { kind: "restore" }))}
          />
        )}
        <Button
          tip="Look at the repository now instead of at the next interval"
          disabled={act.isPending}
          onClick={() => act.mutate(() => got(api.POST("/wards/{ward}/look", path(w))))}
        >
          Look now
        </Button>
        <Button
          changes
          tip="Go back to what an entry of the logbook left, and hold the ward there"
          onClick={() => open("rollback")}
        >
          Roll back
        </Button>
        {w.hold ? (
          <Button
            changes
            tip="Let automatic runs go on"
            onClick={() => act.mutate(() => got(api.DELETE("/wards/{ward}/hold", path(w))))}
          >
            Release
          </Button>
        ) : (
          <Button changes tip="Stop automatic runs on this ward" onClick={() => open("hold")}>
            Hold
          </Button>
        )}
        <Menu
          label="More"
          items={[
            ["Preview the sync", () => open("preview")],
            [
              "Apply everything again",
              () => act.mutate(() => lookAndStart(w, { kind: "sync", reapply: true, retry: !!w.rejected })),
              "changes",
            ],
            ["Let git say what the cluster holds", () => open("propose"), "changes"],
            [`Rejected revisions (${w.rejections ?? 0})`, () => open("rejections")],
          ]}
        />
      </div>
      {act.error && !guarded && (
        <div className="w-full">
          <Wrong error={act.error} />
        </div>
      )}
      {(dialog === "preview" || guarded) && (
        <Preview
          ward={w}
          close={() => {
            act.reset();
            close();
          }}
        />
      )}
      <RollBack ward={w} now={now} open={dialog === "rollback"} close={close} />
      <Hold ward={w} open={dialog === "hold"} close={close} />
      {dialog === "propose" && <Propose ward={w} close={close} />}
      {dialog === "rejections" && <Rejections ward={w} now={now} close={close} />}
    </div>
  );
}

/** The whole plan of a sync beforehand, with the guards that would stop it. */
function Preview({ ward: w, close }: { ward: Ward; close: () => void }) {
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
          <Plan of={plan.data.objects} />
        </div>
      )}
      {act.error && <Wrong error={act.error} />}
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={close}>Leave it</Button>
        <Button
          changes
          strong
          disabled={!plan.data || plan.data.objects.length === 0 || open.length > 0 || act.isPending}
          onClick={() => act.mutate(() => start(w, { kind: "sync", allow: allowed, retry: !!w.rejected }))}
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
function Propose({ ward: w, close }: { ward: Ward; close: () => void }) {
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
          <span className="font-mono text-sm">{short(act.data.revision)}</span> {act.data.revision.subject} is
          on branch <strong className="font-mono text-sm break-all">{act.data.branch}</strong>, for{" "}
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
function Rejections({ ward: w, now, close }: { ward: Ward; now: number; close: () => void }) {
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
              changes
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

/** The button for what most likely comes next. */
function Primary({
  ward: w,
  busy,
  sync,
  restore,
}: {
  ward: Ward;
  busy: boolean;
  sync: () => void;
  restore: () => void;
}) {
  const fields = w.drifted_fields;
  const back = fields > 0 && (
    <Button
      changes
      strong={w.pending === 0 && !w.rejected}
      tip="Put back what others changed, and nothing else: no task runs, and nothing new is carried in"
      disabled={busy}
      onClick={restore}
    >
      Restore {count(fields, "field")}
    </Button>
  );
  if (back && w.pending === 0 && !w.rejected) return back;
  const label = w.rejected
    ? `Try ${short(w.revision)} again`
    : w.pending > 0
      ? `Sync ${count(w.pending, "object")}${(w.guards?.length ?? 0) > 0 ? "…" : ""}`
      : "Sync";
  const tip =
    w.pending > 0
      ? "Make the cluster as the repository declares, and put back what has drifted"
      : "Look at the repository, and apply what differs";
  return (
    <>
      <Button changes strong={w.pending > 0 && !w.rejected} tip={tip} disabled={busy} onClick={sync}>
        {label}
      </Button>
      {back}
    </>
  );
}

function AsOf({ of, what, now, live }: { of: Schemas["AsOf"]; what: string; now: number; live?: boolean }) {
  if (!of.known) {
    return (
      <span title={of.problem} className="text-ink">
        ? {what} can't be read{of.at && `, last ${ago(of.at, now)}`}
      </span>
    );
  }
  if (live) return <span title="Every change is seen as it happens">{what} watched live</span>;
  return (
    <span>
      {what} read {ago(of.at, now)}
      {of.next && `, next look in ${span(Date.parse(of.next) - now)}`}
    </span>
  );
}

function Strip({ ward, now }: { ward: Ward; now: number }) {
  const [scale] = useScale();
  return (
    <div className="mt-4">
      <WatchLine ward={{ ...ward, needs_you: true }} now={now} height={16} />
      <div className="flex items-center justify-between text-xs text-soft">
        {marks(scale).map((m, i) => (
          <span key={m} className="flex items-center gap-2">
            {m} {i === 0 && <ScaleChoice />}
          </span>
        ))}
      </div>
    </div>
  );
}

function Hold({ ward, open, close }: { ward: Ward; open: boolean; close: () => void }) {
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
      <label className="mt-3 block text-sm">
        <span className="text-soft">Until</span>
        <select
          value={hours}
          onChange={(e) => setHours(Number(e.target.value))}
          className="mt-1 block w-full rounded-md border border-rule bg-paper px-2.5 py-1.5"
        >
          <option value={0}>it is released</option>
          <option value={1}>in an hour</option>
          <option value={4}>in 4 hours</option>
          <option value={24}>tomorrow, this time</option>
        </select>
      </label>
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
                    reason: why,
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

function Declaration({ detail, now }: { detail: WardDetail; now: number }) {
  const w = detail.ward;
  return (
    <div className="mt-6">
      <Panel
        title="Declaration"
        side={
          w.revision && (
            <span className="font-normal text-soft">
              newest {short(w.revision)}, {ago(w.revision.at, now)}
            </span>
          )
        }
      >
        <div className="grid gap-6 px-3.5 py-3 lg:grid-cols-[minmax(0,1fr)_minmax(0,20rem)]">
          <pre className="overflow-auto font-mono text-[13px]">{detail.file.trim()}</pre>
          <div className="space-y-2 text-sm">
            {w.about && <p>{w.about}</p>}
            {w.roster && (
              <p>
                Declared by roster{" "}
                <Link className="underline" to="/rosters">
                  {w.roster}
                </Link>
                , in <span className="font-mono">{w.source}</span>. Change it there.
              </p>
            )}
            {(w.notes ?? []).map((n) => (
              <p key={n} className="text-soft">
                {n}.
              </p>
            ))}
            <p className="text-soft">
              {w.auto_sync ? "A new revision is synced by itself." : "A person syncs."}{" "}
              {w.restore_drift
                ? "What others change is put back."
                : "What others change is reported, not put back."}{" "}
              {w.keep_additions === "remove"
                ? "What others add is taken away."
                : w.keep_additions === "ignore"
                  ? "What others add is not looked at."
                  : "What others add is reported."}
            </p>
            {Object.entries(w.links ?? {}).map(([name, url]) => (
              <p key={name}>
                <a href={/^https?:/.test(url) ? url : undefined} rel="noreferrer" className="underline">
                  {name}
                </a>
              </p>
            ))}
          </div>
        </div>
      </Panel>
    </div>
  );
}
