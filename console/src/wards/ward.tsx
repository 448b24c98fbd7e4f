// A ward's page: a plain sentence, what can be done about it, its objects, the chosen one closely, and the logbook.
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useContext, useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { Logbook, RollBack } from "../runs/entries";
import { CanaryPanel } from "../runs/canary";
import { Progress } from "../runs/run";
import { lookAndStart, path, start, useAct } from "../shared/act";
import { Problem, type Schemas, type Ward, type WardDetail, api, got } from "../shared/api";
import { Button, Health, Links, May, Menu, Panel, Standing, Wrong, useNow } from "../shared/parts";
import { ScaleChoice, WatchLine, marks, useScale } from "../shared/watchline";
import { ago, count, headline, moment, short, span } from "../shared/words";
import { Hold, Mute, Preview, Propose, Rejections } from "./actions";
import { Closely, Outline, mostTelling } from "./objects";

export function WardPage() {
  const { id = "" } = useParams();
  const now = useNow();
  const [chosen, choose] = useState<string>();
  const { role } = useContext(May);
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
    <May value={{ role, to: d.you_may }}>
      <Head detail={d} now={now} />
      <Strip ward={d.ward} now={now} />
      {d.ward.run?.canary && <CanaryPanel ward={d.ward.id} entry={d.ward.run.number} now={now} />}
      {d.ward.run && !d.ward.run.canary && <Progress run={d.ward.run} now={now} says={d.ward.says} />}
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
    </May>
  );
}

type Dialog = "rollback" | "hold" | "preview" | "propose" | "rejections" | "mute";

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
          {w.name}{" "}
          <Link
            to={`/clusters/${w.cluster}`}
            className="text-soft underline decoration-rule underline-offset-2 hover:text-ink"
          >
            @{w.cluster}
          </Link>
          {w.owner && ` · kept by ${w.owner}`} · <span className="font-mono text-sm">{w.repo}</span> {w.ref}
          {w.tag && ` (${w.tag})`}
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
          {w.contested_fields > 0 && `, ${count(w.contested_fields, "field")}`}
          {(w.added_fields ?? 0) > 0 && ` · +${w.added_fields} by others`} ·{" "}
          {(w.broken_rules ?? 0) > 0 && (
            <>
              <ForAll to={`/rules?broken=yes&ward=${w.id}`}>
                {w.broken_rules === 1 ? "1 thing breaks a rule" : `${w.broken_rules} things break rules`}
              </ForAll>
              {" · "}
            </>
          )}
          <Health is={w.health} reason={w.health_reason} /> ·{" "}
          <AsOf of={w.repository} what="repository" now={now} /> ·{" "}
          <AsOf of={w.live} what="cluster" now={now} live />
        </p>
        {Object.keys(w.links ?? {}).length > 0 && (
          <p className="mt-2 -ml-2">
            <Links of={w.links} />
          </p>
        )}
        {detail.muted && (
          <p className="mt-0.5 text-sm" data-muted>
            Muted by {detail.muted.by} until {moment(detail.muted.until)}: {detail.muted.why}
          </p>
        )}
      </div>
      <div className="flex gap-2.5">
        {w.run ? (
          <Button
            changes="sync"
            strong
            tip={
              w.run.canary
                ? "The canary goes back first: all of the traffic to the old version"
                : "Stop after the calls that are on their way; what was applied stays"
            }
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
          changes="look"
          tip="Look at the repository now instead of at the next interval"
          disabled={act.isPending}
          onClick={() => act.mutate(() => got(api.POST("/wards/{ward}/look", path(w))))}
        >
          Look now
        </Button>
        <Button
          changes="roll back"
          tip="Go back to what an entry of the logbook left, and hold the ward there"
          onClick={() => open("rollback")}
        >
          Roll back
        </Button>
        {w.hold ? (
          <Button
            changes="hold"
            tip="Let automatic runs go on"
            onClick={() => act.mutate(() => got(api.DELETE("/wards/{ward}/hold", path(w))))}
          >
            Release
          </Button>
        ) : (
          <Button changes="hold" tip="Stop automatic runs on this ward" onClick={() => open("hold")}>
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
              "sync",
            ],
            ["Let git say what the cluster holds", () => open("propose"), "roll back"],
            detail.muted
              ? [
                  "Tell of it again",
                  () => act.mutate(() => got(api.DELETE("/mutes", { params: { query: { subject: w.id } } }))),
                  "changes",
                ]
              : ["Mute its alerts for a while", () => open("mute"), "changes"],
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
      {dialog === "mute" && <Mute ward={w} close={close} />}
      {dialog === "rejections" && <Rejections ward={w} now={now} close={close} />}
    </div>
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
      changes="sync"
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
  if (w.guards?.some((g) => g.name === "missing-secret"))
    return (
      <>
        <Link
          to="/secrets?missing=yes"
          className="rounded-md border border-ink bg-ink px-3.5 py-1.5 text-sm font-bold whitespace-nowrap text-paper hover:opacity-90"
        >
          Set it
        </Link>
        {back}
      </>
    );
  return (
    <>
      <Button changes="sync" strong={w.pending > 0 && !w.rejected} tip={tip} disabled={busy} onClick={sync}>
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

/** A link to a page that members have not; to them it is a text. */
function ForAll({ to, children }: { to: string; children: ReactNode }) {
  const { role } = useContext(May);
  if (role === "member") return <>{children}</>;
  return (
    <Link to={to} className="underline decoration-rule underline-offset-2">
      {children}
    </Link>
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
          <pre tabIndex={0} className="overflow-auto font-mono text-[13px]">
            {detail.file.trim()}
          </pre>
          <div className="space-y-2 text-sm">
            {w.about && <p>{w.about}</p>}
            {w.roster && (
              <p>
                Declared by roster <ForAll to="/rosters">{w.roster}</ForAll>, in{" "}
                <span className="font-mono">{w.source}</span>. Change it there.
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
          </div>
        </div>
      </Panel>
    </div>
  );
}
