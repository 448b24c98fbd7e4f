// Kits: what can be made or switched by a form, what they have made, and where components are on.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { type Schemas, api, got } from "../shared/api";
import { Page, few, useList } from "../shared/lists";
import { Button, Health, Standing, Wrong } from "../shared/parts";
import { count } from "../shared/words";

export function KitsPage() {
  const list = useList();
  const kits = useQuery({
    queryKey: ["kits", list.search, list.offset],
    queryFn: () => got(api.GET("/kits", { params: { query: list.query } })),
    placeholderData: keepPreviousData,
  });
  if (kits.error && !kits.data) return <Wrong error={kits.error} />;
  if (!kits.data) return <p className="text-soft">Reading the kits…</p>;
  const { items, total } = kits.data;
  return (
    <>
      <Page
        title="Kits"
        about={
          total || list.search
            ? "What can be made by a form, or switched on in a cluster. Each ends in a proposal; nothing is kept before it is merged."
            : "No kits yet. One is a directory with a kit.yaml in a roster; its format: vigila schema kit."
        }
        list={list}
        total={total}
        heads={["Kit", "For clusters", "Owner", "Files go to"]}
      >
        {[...items]
          .sort((a, b) => Number(a.switched) - Number(b.switched))
          .map((k) => (
            <tr key={k.name} className="border-b border-rule align-baseline" data-kit={k.name}>
              <td className="max-w-xl px-3 py-2">
                <strong>{k.name}</strong> {k.switched && <span className="text-sm text-soft">component</span>}
                <span className="block text-sm text-soft">{k.about}</span>
              </td>
              <td className="px-3 text-sm">
                {Object.entries(k.fits ?? {})
                  .map(([l, v]) => `${l}: ${v}`)
                  .join(", ") || "all"}
              </td>
              <td className="px-3 text-sm">{k.owner}</td>
              <td className="px-3 text-sm">
                {k.repo} <span className="text-soft">{k.branch}</span>
              </td>
              <td className="py-1.5 text-right">
                {!k.switched && (
                  <Link
                    to={`/kits/${k.name}`}
                    className="rounded-md border border-rule bg-sheet px-3 py-1 text-sm font-bold whitespace-nowrap hover:border-soft"
                  >
                    Make one
                  </Link>
                )}
              </td>
            </tr>
          ))}
      </Page>
      {items.some((k) => k.switched) && <Switched />}
      <MadeThings kits={items} />
    </>
  );
}

/** The components that can be switched, place by place. */
function Switched() {
  const components = useQuery({
    queryKey: ["components", "all"],
    queryFn: () => got(api.GET("/components", { params: { query: { limit: 1000 } } })),
    refetchInterval: 15_000,
  });
  if (components.error) return <Wrong error={components.error} />;
  const places = [...new Set(components.data?.items.map((c) => c.place))];
  return (
    <section className="mt-10" aria-label="Components">
      <h2 className="text-lg font-bold">Components</h2>
      {places.map((p) => (
        <div key={p} className="mt-3">
          <h3 className="font-bold">
            <Link to={`/clusters/${p}`} className="underline decoration-rule underline-offset-2">
              {p}
            </Link>
          </h3>
          <Components of={components.data!.items.filter((c) => c.place === p)} />
        </div>
      ))}
    </section>
  );
}

/** Components of a place, each with what switches it. */
export function Components({ of }: { of: Schemas["Component"][] }) {
  return (
    <ul className="mt-1 divide-y divide-rule border-y border-rule">
      {of.map((c) => (
        <li
          key={`${c.place} ${c.kit}`}
          className="flex flex-wrap items-baseline gap-x-4 gap-y-1 py-2"
          data-component={`${c.kit} ${c.place}`}
        >
          <span className={`w-10 text-sm ${c.use ? "font-bold" : "text-soft"}`}>{c.use ? "on" : "off"}</span>
          <span className="min-w-0 flex-1">
            <strong>{c.kit}</strong>{" "}
            <span className="text-sm text-soft">
              {c.about}
              {c.requires.length > 0 && ` Needs ${c.requires.join(", ")}.`}
            </span>
            {Object.keys(c.given ?? {}).length > 0 && (
              <span className="block font-mono text-sm">
                {Object.entries(c.given!)
                  .map(([k, v]) => `${k}: ${typeof v === "string" ? v : JSON.stringify(v)}`)
                  .join(", ")}
              </span>
            )}
            {c.problem && (
              <span className="block text-sm">
                <span aria-hidden className="mr-1.5 text-failing">
                  ▲
                </span>
                {c.problem}
              </span>
            )}
            {(c.kept ?? []).map((w) => (
              <span key={w.ward} className="block text-sm">
                <Standing is={w.standing} word /> <Health is={w.health} />{" "}
                <Link className="underline decoration-rule" to={`/wards/${encodeURIComponent(w.ward)}`}>
                  {w.ward}
                </Link>{" "}
                <span className="text-soft">{w.says}</span>
              </span>
            ))}
          </span>
          <span className="flex gap-3 text-sm">
            {c.use && (
              <Link className="underline" to={`/kits/${c.kit}?place=${c.place}&use=yes`}>
                Options
              </Link>
            )}
            <Link className="underline" to={`/kits/${c.kit}?place=${c.place}&use=${c.use ? "no" : "yes"}`}>
              {c.use ? "Switch it off" : "Switch it on"}
            </Link>
          </span>
        </li>
      ))}
    </ul>
  );
}

/** What kits have made, and what a newer kit would make otherwise. */
function MadeThings({ kits }: { kits: Schemas["Kit"][] }) {
  const client = useQueryClient();
  const made = useQuery({
    queryKey: ["made", "all"],
    queryFn: () => got(api.GET("/made", { params: { query: { limit: 1000 } } })),
  });
  const renew = useMutation({
    mutationFn: (name: string) =>
      got(api.POST("/kits/{name}/renew", { params: { path: { name } }, body: {} })),
    onSettled: () => void client.invalidateQueries({ queryKey: ["made"] }),
  });
  if (made.error) return <Wrong error={made.error} />;
  if (!made.data || (made.data.items.length === 0 && !made.data.problem)) return null;
  const other = [...new Set(made.data.items.filter((m) => m.other).map((m) => m.kit))].filter((k) =>
    kits.some((x) => x.name === k),
  );
  return (
    <section className="mt-10" aria-label="What kits made">
      <div className="flex flex-wrap items-center gap-3">
        <h2 className="mr-auto text-lg font-bold">What kits made</h2>
        {other.map((k) => (
          <Button
            key={k}
            changes
            disabled={renew.isPending}
            onClick={() => renew.mutate(k)}
            tip={`A proposal for each thing that ${k} would make otherwise by now`}
          >
            Offer the newer {k}
          </Button>
        ))}
      </div>
      {made.data.problem && <Wrong error={new Error(made.data.problem)} />}
      {renew.error && <Wrong error={renew.error} />}
      {renew.data && (
        <ul className="mt-2 text-sm" role="status">
          {renew.data.items.map((r) => (
            <li key={r.path}>
              <span className="font-mono">{r.path}</span>:{" "}
              {r.proposal ? (
                <Link className="underline" to={`/proposals/${r.proposal}`}>
                  proposed as #{r.proposal}
                </Link>
              ) : (
                r.says
              )}
            </li>
          ))}
        </ul>
      )}
      <table className="mt-2 w-full text-left">
        <thead>
          <tr className="border-b border-rule text-sm text-soft">
            {["Path", "Kit", "Wards", ""].map((h) => (
              <th key={h} className="px-3 py-1.5 font-normal">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {made.data.items.map((m) => (
            <tr key={`${m.repo} ${m.path}`} className="border-b border-rule align-baseline">
              <td className="px-3 py-2 font-mono text-sm">{m.path}</td>
              <td className="px-3 text-sm">
                {m.kit}
                {m.other && <span className="block text-soft">{m.other}</span>}
              </td>
              <td className="px-3 text-sm">{few(m.of_wards ?? [])}</td>
              <td className="py-1.5 text-right">
                {m.kit && (
                  <Link
                    className="text-sm underline"
                    to={`/kits/${m.kit}?change=${encodeURIComponent(m.path)}`}
                  >
                    Change it
                  </Link>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2 text-sm text-soft">{count(made.data.total, "thing")}.</p>
    </section>
  );
}
