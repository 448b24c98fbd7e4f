// Rosters: the list, the form that adds or changes one, and one of them closely.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas, api, got } from "../shared/api";
import { type Field, FormDialog, names } from "../shared/forms";
import { Forget, Page, few, text, useList } from "../shared/lists";
import { Button, type Item, Menu, Modal, Standing, Wrong, useNow } from "../shared/parts";
import { ago, count, short, span } from "../shared/words";

function rosterFields(repos: string[], old?: Schemas["Roster"]): Field[] {
  return [
    {
      name: "name",
      label: "Name",
      help: "Small letters, digits and dashes.",
      example: "moorings",
      fixed: !!old,
    },
    {
      name: "repo",
      label: "Repository",
      help: "A known git repository; its ward files come from it by themselves.",
      kind: "choice",
      of: repos,
    },
    { name: "ref", label: "Branch, tag or version range", help: "main when empty.", example: "main" },
    {
      name: "path",
      label: "Path",
      help: "A directory of ward files; the root when empty.",
      example: "wards",
    },
    {
      name: "namespaces",
      label: "Limit: namespaces",
      help: "The only ones that its wards may keep, whatever their files say. All when empty.",
      example: "fare-gate, passage-board",
    },
    {
      name: "clusters",
      label: "Limit: clusters",
      help: "The only ones that its wards may go into. All when empty.",
    },
    {
      name: "as",
      label: "Limit: acts as",
      help: "A service account in each ward's namespace: runs can do no more than it may.",
      example: "deployer",
    },
  ];
}

export function RostersPage() {
  const list = useList();
  const client = useQueryClient();
  const [form, setForm] = useState<Schemas["Roster"] | "new">();
  const [open, setOpen] = useState<string>();
  const [gone, setGone] = useState<string>();
  const rosters = useQuery({
    queryKey: ["rosters", list.search, list.offset],
    queryFn: () => got(api.GET("/rosters", { params: { query: list.query } })),
    placeholderData: keepPreviousData,
    refetchInterval: 15_000,
  });
  const repos = useQuery({
    queryKey: ["repos"],
    queryFn: () => got(api.GET("/repos", { params: { query: { limit: 1000 } } })),
  });
  if (rosters.error && !rosters.data) return <Wrong error={rosters.error} />;
  if (!rosters.data) return <p className="text-soft">Reading the rosters…</p>;
  const { items, total } = rosters.data;
  const old = form === "new" ? undefined : form;
  const git = (repos.data?.items ?? []).filter((r) => !r.charts).map((r) => r.name);
  return (
    <>
      <Page
        title="Rosters"
        about={
          total || list.search
            ? `${count(total, "roster")}: repository paths whose ward files are followed.`
            : "No rosters yet. A roster is a repository path that holds ward files; what they declare is kept by itself."
        }
        add={
          <Button
            changes
            strong
            disabled={git.length === 0}
            tip={git.length === 0 ? "Add a repository first" : undefined}
            onClick={() => setForm("new")}
          >
            Add a roster
          </Button>
        }
        list={list}
        total={total}
        heads={["Roster", "Itself", "Its wards", "What is going on"]}
      >
        {items.map((r) => (
          <tr key={r.name} className="border-b border-rule align-baseline" data-roster={r.name}>
            <td className="px-3 py-2">
              <button className="font-bold underline" onClick={() => setOpen(r.name)}>
                {r.name}
              </button>
              <span className="block text-sm text-soft">
                {r.repo} {r.ref} {r.path}
                {r.parent && `, declared by roster ${r.parent}`}
              </span>
            </td>
            <td className="px-3">
              <Standing is={r.standing} word />
            </td>
            <td className="px-3 text-sm">
              <Link className="underline" to={`/?search=${r.name}`}>
                {r.wards}
              </Link>
              : {r.in_step} in step, {r.ready} ready
              {r.need_you > 0 && (
                <strong>, {r.need_you === 1 ? "1 needs you" : `${r.need_you} need you`}</strong>
              )}
            </td>
            <td className="px-3 text-sm">
              {r.needs_you ? <strong>{r.says}</strong> : r.says}
              {r.todo && <span className="block text-soft">{r.todo}</span>}
            </td>
            <td className="py-1.5 text-right">
              <Menu
                label="See or change"
                items={[
                  ["See all of it", () => setOpen(r.name)],
                  ...(r.parent ? [] : ([["Change it", () => setForm(r), "changes"]] as Item[])),
                  ...(r.parent ? [] : ([["Forget it", () => setGone(r.name), "changes"]] as Item[])),
                ]}
              />
            </td>
          </tr>
        ))}
      </Page>
      {open && <RosterDialog name={open} close={() => setOpen(undefined)} />}
      {form && (
        <FormDialog
          title={old ? `Change ${old.name}` : "Add a roster"}
          about="Its path is found before it is kept; then every ward file in it is followed: what comes is kept, what goes is retired."
          label={old ? "Change it" : "Add it"}
          fields={rosterFields(git, old)}
          start={{
            name: old?.name ?? "",
            repo: old?.repo ?? git[0] ?? "",
            ref: old?.ref ?? "",
            path: old?.path ?? "wards",
            namespaces: (old?.limits.namespaces ?? []).join(", "),
            clusters: (old?.limits.clusters ?? []).join(", "),
            as: old?.limits.as ?? "",
          }}
          close={() => setForm(undefined)}
          send={async (v) => {
            const r = await got(
              api.POST("/rosters", {
                body: {
                  name: text(v, "name"),
                  repo: text(v, "repo"),
                  ref: text(v, "ref"),
                  path: text(v, "path"),
                  limits: {
                    namespaces: names(text(v, "namespaces")),
                    clusters: names(text(v, "clusters")),
                    as: text(v, "as"),
                  },
                },
              }),
            );
            void client.invalidateQueries({ queryKey: ["rosters"] });
            setOpen(r.name);
            return undefined;
          }}
        />
      )}
      {gone && (
        <Forget
          what={gone}
          about="The wards that it declared are kept on as they are, by nobody's declaration."
          key_="rosters"
          close={() => setGone(undefined)}
          act={() => got(api.DELETE("/rosters/{name}", { params: { path: { name: gone } } }))}
        />
      )}
    </>
  );
}

/** Everything there is to say of one roster. */
function RosterDialog({ name, close }: { name: string; close: () => void }) {
  const client = useQueryClient();
  const now = useNow();
  const path = { params: { path: { name } } };
  const roster = useQuery({
    queryKey: ["rosters", "one", name],
    queryFn: () => got(api.GET("/rosters/{name}", path)),
    refetchInterval: 5_000,
  });
  const act = useMutation({
    mutationFn: (f: () => Promise<unknown>) => f(),
    onSuccess: () => client.invalidateQueries({ queryKey: ["rosters"] }),
  });
  const r = roster.data;
  return (
    <Modal open close={close} title={`Roster ${name}`} about={r && `${r.repo} ${r.ref} ${r.path}`} wide>
      {roster.error && <Wrong error={roster.error} />}
      {r && (
        <>
          <p>
            <Standing is={r.standing} word /> {r.revision && !r.says.startsWith(short(r.revision)) && "· "}
            {r.says}
          </p>
          {r.todo && <p className="text-soft">{r.todo}</p>}
          <p className="mt-2 text-sm text-soft">
            Its wards: {r.wards}, {r.in_step} in step, {r.ready} ready, {r.need_you} in need of you. Read{" "}
            {ago(r.repository.at, now)}
            {r.repository.next && `, next look in ${span(Date.parse(r.repository.next) - now)}`}.
          </p>
          {r.problems.length > 0 && (
            <section className="mt-4">
              <h3 className="text-sm font-bold">What its files get wrong</h3>
              <ul className="mt-1 space-y-1 text-sm">
                {r.problems.map((p) => (
                  <li key={p.file + p.line + p.text}>
                    <span className="font-mono">
                      {p.file}:{p.line}
                    </span>{" "}
                    {p.text}
                  </li>
                ))}
              </ul>
            </section>
          )}
          {r.left.length > 0 && (
            <section className="mt-4">
              <h3 className="text-sm font-bold">Left behind</h3>
              <ul className="mt-1 space-y-2 text-sm">
                {r.left.map((l) => (
                  <li key={l.ward}>
                    <strong>{l.ward}</strong> {ago(l.at, now)}: {l.why}; {count(l.objects.length, "object")}{" "}
                    stayed in the cluster{" "}
                    <button
                      className="underline"
                      onClick={() =>
                        act.mutate(() =>
                          got(api.DELETE("/left/{ward}", { params: { path: { ward: l.ward } } })),
                        )
                      }
                    >
                      seen to it
                    </button>
                    <span className="block font-mono text-xs text-soft">{few(l.objects)}</span>
                  </li>
                ))}
              </ul>
            </section>
          )}
          {act.error && <Wrong error={act.error} />}
          <div className="mt-5 flex justify-end gap-2">
            <Button
              disabled={act.isPending}
              onClick={() => act.mutate(() => got(api.POST("/rosters/{name}/look", path)))}
            >
              Look now
            </Button>
            {r.guard && (
              <Button
                changes
                disabled={act.isPending}
                onClick={() =>
                  act.mutate(() =>
                    got(api.POST("/rosters/{name}/sync", { ...path, body: { allow: [r.guard!] } })),
                  )
                }
              >
                Let them go
              </Button>
            )}
            <Button
              changes
              strong
              disabled={act.isPending}
              tip="Every ward syncs as soon as those it waits for are in step and ready; held ones stay held"
              onClick={() =>
                act.mutate(() => got(api.POST("/rosters/{name}/sync", { ...path, body: { allow: [] } })))
              }
            >
              Bring all of it up
            </Button>
          </div>
        </>
      )}
    </Modal>
  );
}
