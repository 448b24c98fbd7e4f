// Adding a ward from the console: the form writes its ward file to a branch of the repository, for review.
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got } from "../shared/api";
import { type Field, FormDialog, type Values, pairs } from "../shared/forms";

const quote = (s: string) => (/^[\w./@-]+$/.test(s) ? s : JSON.stringify(s));

/** The ward file that some values make. */
export function wardFile(v: Values): string {
  const t = (k: string) => String(v[k] || "");
  const labels = pairs(t("labels"));
  const into = Object.keys(labels).length
    ? `clusters: {${Object.entries(labels)
        .map(([k, x]) => `${quote(k)}: ${quote(x)}`)
        .join(", ")}}`
    : `cluster: ${quote(t("cluster"))}`;
  const from = [`repo: ${quote(t("repo"))}`];
  if (t("ref") && t("ref") !== "main") from.push(`ref: ${quote(t("ref"))}`);
  if (t("path")) from.push(`path: ${quote(t("path"))}`);
  const rows = ["vigila: ward/v1", `name: ${quote(t("name"))}`];
  if (t("about")) rows.push(`about: ${quote(t("about"))}`);
  if (t("owner")) rows.push(`owner: ${quote(t("owner"))}`);
  rows.push(`from: {${from.join(", ")}}`, "into:", `  ${into}`, `  namespace: ${quote(t("namespace"))}`);
  if (v.create) rows.push("  create_namespace: true");
  rows.push(`keep: {sync: ${t("sync")}, drift: ${t("drift")}}`);
  if (t("after"))
    rows.push(
      `after: [${t("after")
        .split(/[\s,]+/)
        .filter(Boolean)
        .join(", ")}]`,
    );
  return rows.join("\n") + "\n";
}

export function NewWard({ close }: { close: () => void }) {
  const all = { params: { query: { limit: 1000 } } };
  const repos = useQuery({ queryKey: ["repos"], queryFn: () => got(api.GET("/repos", all)) });
  const clusters = useQuery({ queryKey: ["clusters", "all"], queryFn: () => got(api.GET("/clusters", all)) });
  const rosters = useQuery({ queryKey: ["rosters", "all"], queryFn: () => got(api.GET("/rosters", all)) });
  if (!repos.data || !clusters.data || !rosters.data) return null;
  const git = repos.data.items.filter((r) => !r.charts).map((r) => r.name);
  const first = rosters.data.items[0];
  const fields: Field[] = [
    {
      name: "name",
      label: "Name",
      help: "Unique among all wards: small letters, digits and dashes.",
      example: "fog-signal",
    },
    { name: "about", label: "About", help: "What it is, in a sentence." },
    { name: "owner", label: "Owner", help: "The team that answers for it.", example: "signals" },
    {
      name: "repo",
      label: "Comes from",
      help: "The repository that holds its manifests.",
      kind: "choice",
      of: git,
    },
    {
      name: "ref",
      label: "Branch, tag or version range",
      help: "What it follows; main when empty.",
      example: "main",
    },
    {
      name: "path",
      label: "Path",
      help: "A directory of plain files, an overlay, a chart or a template; the root when empty.",
      example: "services/fog-signal",
    },
    {
      name: "cluster",
      label: "Goes into",
      help: "One cluster. Labels below take its place.",
      kind: "choice",
      of: clusters.data.items.map((c) => c.name),
    },
    {
      name: "labels",
      label: "Or into every cluster with labels",
      help: "One placement for each cluster that has them all.",
      example: "tier=rehearsal",
    },
    { name: "namespace", label: "Namespace", help: "For objects that name none.", example: "fog-signal" },
    {
      name: "after",
      label: "After",
      help: "Wards that must be in step and ready first.",
      example: "platform-base",
    },
    {
      name: "sync",
      label: "A new revision",
      help: "auto: it is synced by itself. ask: a person syncs.",
      kind: "choice",
      of: ["ask", "auto"],
    },
    {
      name: "drift",
      label: "What others change",
      help: "report: it is shown. restore: it is put back.",
      kind: "choice",
      of: ["report", "restore"],
    },
    {
      name: "create",
      label: "Keep the namespace itself as well",
      help: "It is made with the first sync.",
      kind: "check",
    },
    {
      name: "home",
      label: "Write it to",
      help: "The repository whose branch gets the ward file; a roster finds it once it is merged.",
      kind: "choice",
      of: git,
    },
    {
      name: "file",
      label: "As the file",
      help: "In a path that a roster follows.",
      example: "wards/fog-signal.yaml",
    },
    {
      name: "branch",
      label: "On the branch",
      help: "A new one; the branch it is meant for is not touched.",
      example: "add-fog-signal",
    },
  ];
  return (
    <FormDialog
      title="Add a ward"
      about="Its ward file is written to a branch of its own in the repository, for review. Nothing is kept before it is merged."
      label="Write it to the branch"
      fields={fields}
      start={{
        repo: first?.repo ?? git[0] ?? "",
        home: first?.repo ?? git[0] ?? "",
        cluster: clusters.data.items[0]?.name ?? "",
        sync: "ask",
        drift: "report",
        create: true,
      }}
      close={close}
      below={(v) => (
        <>
          <h3 className="mt-4 text-sm font-bold">The ward file</h3>
          <pre
            tabIndex={0}
            className="mt-1 overflow-auto rounded-md border border-rule bg-paper p-3 font-mono text-sm"
          >
            {wardFile(v)}
          </pre>
        </>
      )}
      send={async (v) => {
        const name = String(v.name || "ward");
        const file = String(v.file || `${first?.path ? first.path + "/" : "wards/"}${name}.yaml`);
        const branch = String(v.branch || `add-${name}`);
        const p = await got(
          api.POST("/repos/{name}/files", {
            params: { path: { name: String(v.home) } },
            body: {
              base: first && first.repo === v.home ? first.ref : "main",
              branch,
              subject: `Keep ${name}`,
              files: [{ path: file, text: wardFile(v) }],
            },
          }),
        );
        return (
          <p>
            <strong>{file}</strong> is on the branch <strong>{p.branch}</strong> of {String(v.home)}, for{" "}
            {p.base}
            {p.number > 0 && (
              <>
                :{" "}
                <Link className="underline" to={`/proposals/${p.number}`}>
                  see what proposal #{p.number} would do, and merge it
                </Link>
              </>
            )}
            . Once it is merged,{" "}
            {first && first.repo === v.home
              ? `roster ${first.name} finds it`
              : "add it with vigila ward add, or let a roster find it"}
            .
          </p>
        );
      }}
    />
  );
}
