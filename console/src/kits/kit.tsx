// One kit: its form, with the files that it makes and what they would do as they are typed, and then a proposal.
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { EffectOf } from "../proposals/proposal";
import { type Schemas, api, got } from "../shared/api";
import { Button, Reason, Wrong } from "../shared/parts";
import { clock, count } from "../shared/words";
import { type Given, KitForm } from "./form";

type Wish = Schemas["KitWish"];

/** A value once it has been left alone for a while. */
function useSettled<T>(v: T, ms: number): T {
  const [settled, set] = useState(v);
  useEffect(() => {
    const t = setTimeout(() => set(v), ms);
    return () => clearTimeout(t);
  }, [v, ms]);
  return settled;
}

/** Values that a link brings along: nothing is proposed by following it. */
function linked(text: string | null): Given {
  try {
    const v: unknown = JSON.parse(text ?? "{}");
    return typeof v === "object" && v !== null && !Array.isArray(v) ? (v as Given) : {};
  } catch {
    return {};
  }
}

export function KitPage() {
  const { name = "" } = useParams();
  const [params] = useSearchParams();
  const change = params.get("change") ?? "";
  const place = params.get("place") ?? "";
  const kit = useQuery({
    queryKey: ["kits", "one", name],
    queryFn: () => got(api.GET("/kits/{name}", { params: { path: { name } } })),
  });
  const made = useQuery({
    queryKey: ["made", change],
    enabled: change !== "",
    queryFn: () => got(api.GET("/made", { params: { query: { path: change, limit: 1 } } })),
  });
  const components = useQuery({
    queryKey: ["components", "of", place],
    enabled: place !== "",
    queryFn: () => got(api.GET("/components", { params: { query: { limit: 1000 } } })),
  });
  const wrong = kit.error ?? made.error ?? components.error;
  if (wrong) return <Wrong error={wrong} />;
  if (!kit.data || (change && !made.data) || (place && !components.data))
    return <p className="text-soft">Reading the kit…</p>;
  const thing = made.data?.items[0];
  if (change && !thing) return <Wrong error={new Error(`No kit has made ${change}.`)} />;
  const component = components.data?.items.find((c) => c.kit === name && c.place === place);
  if (kit.data.switched && !place)
    return (
      <p>
        {name} is a component: it is switched on the page of a <Link to="/kits">cluster or environment</Link>.
      </p>
    );
  return (
    <Form
      key={`${name} ${change} ${place}`}
      kit={kit.data}
      start={{ ...((thing?.given ?? component?.given ?? {}) as Given), ...linked(params.get("with")) }}
      wish={{
        given: {},
        ...(change ? { change_of: change } : {}),
        ...(place ? { place, use: params.get("use") !== "no" } : {}),
      }}
      note={thing?.other}
    />
  );
}

function Form({ kit, start, wish, note }: { kit: Schemas["Kit"]; start: Given; wish: Wish; note?: string }) {
  const [given, set] = useState(start);
  const [touched, touch] = useState<string[]>([]);
  const [asked, ask] = useState(false);
  const [why, setWhy] = useState("");
  const go = useNavigate();
  const settled = useSettled(given, 350);
  const body = { ...wish, given: settled };
  // What is asked for may follow from what is given: of a chart, its versions and its values.
  const form = useQuery({
    queryKey: ["kit-form", kit.name, ["chart_repo", "chart", "version", "roster"].map((k) => settled[k])],
    enabled: kit.follows === true,
    queryFn: () =>
      got(api.POST("/kits/{name}/form", { params: { path: { name: kit.name } }, body: { given: settled } })),
    placeholderData: keepPreviousData,
  });
  const shape = form.data ?? kit;
  const tried = useQuery({
    queryKey: ["kit-try", kit.name, body],
    queryFn: ({ signal }) =>
      got(api.POST("/kits/{name}/try", { params: { path: { name: kit.name } }, body, signal })),
    placeholderData: keepPreviousData,
    staleTime: 0,
  });
  const propose = useMutation({
    mutationFn: () =>
      got(
        api.POST("/kits/{name}/proposals", {
          params: { path: { name: kit.name } },
          body: { ...wish, given, why },
        }),
      ),
    onSuccess: (p) => go(`/proposals/${p.number}`),
  });
  const t = tried.data;
  const missing = (m: Schemas["ValueMistake"]) => m.says.startsWith(" is missing");
  const shown = (t?.mistakes ?? []).filter(
    (m) => asked || !missing(m) || touched.includes(m.at_value.join(".")),
  );
  const about = (t?.mistakes ?? []).filter((m) => m.at_value.length === 0);
  const fresh = settled === given && !tried.isPlaceholderData;
  const good = t !== undefined && t.mistakes.length === 0 && t.conflicts.length === 0;
  const files = t?.effect?.files.length ?? 0;
  const off = wish.place !== undefined && wish.use === false;
  const title = wish.place
    ? `Switch ${kit.name} ${off ? "off" : "on"} in ${wish.place}`
    : wish.change_of
      ? `Change ${wish.change_of}`
      : `New: ${kit.name}`;
  return (
    <>
      <p className="text-sm">
        <Link to={wish.place ? `/clusters/${wish.place}` : "/kits"} className="text-soft underline">
          {wish.place ?? "Kits"}
        </Link>
      </p>
      <h1 className="mt-1 text-2xl font-bold">{title}</h1>
      <p className="mt-1 max-w-3xl text-soft">
        {kit.about}
        {Object.keys(kit.fits ?? {}).length > 0 &&
          ` For clusters with ${Object.entries(kit.fits!)
            .map(([k, v]) => `${k}: ${v}`)
            .join(", ")}.`}
        {note && ` ${note[0]!.toUpperCase()}${note.slice(1)}: what it makes otherwise comes along.`}
      </p>
      <div className="mt-6 grid items-start gap-x-8 gap-y-4 lg:grid-cols-[minmax(0,5fr)_minmax(0,6fr)]">
        <section aria-label="Form" className="min-w-0">
          {off ? (
            <p className="mb-6">
              Its options stay in the file. What becomes of its objects once its ward is not declared any
              more, its kit says, or you are asked.
            </p>
          ) : (
            <KitForm
              key={Object.keys((shape.parameters?.properties ?? {}) as object).length}
              kit={shape}
              given={given}
              set={set}
              completed={(t?.completed ?? {}) as Given}
              mistakes={shown}
              left={(f) => touch((all) => (all.includes(f) ? all : [...all, f]))}
            />
          )}
          <Reason value={why} set={setWhy} />
          {propose.error && <Wrong error={propose.error} />}
          <div className="mt-4 flex items-center gap-3">
            <Button
              strong
              changes="review"
              disabled={propose.isPending || !fresh || (asked && !good) || (good && files === 0)}
              onClick={() => (good ? propose.mutate() : ask(true))}
            >
              {propose.isPending ? "One moment…" : "Propose it"}
            </Button>
            <p className="text-sm text-soft" role="status">
              {!fresh
                ? "Working it out…"
                : !good
                  ? t
                    ? `${count(t.mistakes.length + t.conflicts.length, "thing")} to mend first.`
                    : ""
                  : files === 0
                    ? "It would change nothing: it is so already."
                    : `${count(files, "file")} on a branch of ${kit.repo}, for a review. Nothing is kept before.`}
            </p>
          </div>
        </section>
        <section
          aria-label="What it comes to"
          aria-busy={!fresh}
          className={`min-w-0 ${fresh ? "" : "opacity-60"}`}
        >
          {tried.error && <Wrong error={tried.error} />}
          {about.map((m) => (
            <Wrong key={m.says} error={new Error(m.says)} />
          ))}
          {t && t.conflicts.length > 0 && (
            <Wrong
              error={
                new Error(
                  `Changed by hand since, in the same places that would be another: ${t.conflicts.join(", ")}. Change them by hand there, and come back.`,
                )
              }
            />
          )}
          {good && t.effect && files > 0 ? (
            <EffectOf
              e={t.effect}
              narrow
              again={() => void tried.refetch()}
              busy={tried.isFetching}
              at={clock(new Date(tried.dataUpdatedAt).toISOString())}
            />
          ) : (
            about.length === 0 &&
            !tried.error &&
            !(t && t.conflicts.length > 0) && (
              <p className="rounded-lg border border-dashed border-rule px-4 py-6 text-soft">
                {good
                  ? "Nothing would be another."
                  : "The files, and what they would do to the clusters, show here once the form is filled in."}
              </p>
            )
          )}
        </section>
      </div>
    </>
  );
}
