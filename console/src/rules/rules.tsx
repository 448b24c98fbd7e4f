// Rules that hold for what wards declare, what breaks them, and trying another one out before it holds.
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { type Schemas, api, got } from "../shared/api";
import { Page, few, useList } from "../shared/lists";
import { Button, Modal, Wrong } from "../shared/parts";
import { count } from "../shared/words";

type Rule = Schemas["Rule"];
type Finding = Schemas["Finding"];

/** The rules, or what breaks them: as the address says. */
export function RulesPage() {
  const [params] = useSearchParams();
  return params.has("broken") ? <Broken key={params.toString()} /> : <Rules />;
}

function Rules() {
  const list = useList();
  const [shown, show] = useState<string>();
  const [trying, tryOut] = useState(false);
  const rules = useQuery({
    queryKey: ["rules", list.search, list.offset],
    queryFn: () => got(api.GET("/rules", { params: { query: list.query } })),
    placeholderData: keepPreviousData,
  });
  if (rules.error && !rules.data) return <Wrong error={rules.error} />;
  if (!rules.data) return <p className="text-soft">Reading the rules…</p>;
  const { items, total } = rules.data;
  const broken = items.reduce((n, r) => n + r.breaking, 0);
  return (
    <>
      <Page
        title="Rules"
        about={
          broken > 0
            ? `${count(broken, "object")} would be refused at the next sync that touches ${broken === 1 ? "it" : "them"}.`
            : "What manifests must keep. Nothing that is declared would be refused."
        }
        add={
          <>
            <Button onClick={() => tryOut(true)}>Try a rule</Button>
            <Link to="/rules?broken=yes" className="self-center text-sm underline underline-offset-2">
              What breaks them
            </Link>
          </>
        }
        list={list}
        total={total}
        heads={["Rule", "Otherwise", "Holds for", "Broken by"]}
      >
        {items.map((r) => (
          <tr
            key={`${r.book} ${r.name} ${r.declared_at}`}
            className="border-b border-rule align-baseline"
            data-rule={r.name}
          >
            <td className="max-w-xl px-3 py-2">
              <button
                type="button"
                className="font-mono text-sm font-bold underline decoration-rule underline-offset-2"
                onClick={() => show(r.name)}
              >
                {r.name}
              </button>
              {r.why && <span className="block text-sm text-soft">{r.why}</span>}
            </td>
            <td className="px-3 text-sm">{r.off ? <span className="text-soft">off</span> : r.says}</td>
            <td className="px-3 text-sm">
              {r.off ? (
                <span className="text-soft">no ward; Vigila brings it along</span>
              ) : (
                <span title={r.used_by.join(", ")}>
                  {count(r.used_by.length, "ward")}
                  <span className="block text-soft">
                    {r.book === "vigila" ? "by itself" : `rulebook ${r.book}`}
                  </span>
                </span>
              )}
            </td>
            <td className="px-3 text-sm">
              <BrokenBy of={r} />
            </td>
          </tr>
        ))}
      </Page>
      {shown && <Shown name={shown} close={() => show(undefined)} />}
      {trying && <Try close={() => tryOut(false)} />}
    </>
  );
}

function BrokenBy({ of: r }: { of: Rule }) {
  if (r.off) return null;
  if (r.breaking + r.warned_of + r.let_be === 0) return <span className="text-soft">nothing</span>;
  const parts = [
    r.breaking > 0 && count(r.breaking, "object"),
    r.warned_of > 0 && count(r.warned_of, "object"),
    r.let_be > 0 && `${r.let_be} let be`,
  ].filter(Boolean);
  return (
    <Link to={`/rules?broken=${r.name}`} className="underline decoration-rule underline-offset-2">
      {r.breaking > 0 && <span className="text-failing">▲ </span>}
      {parts.join(", ")}
    </Link>
  );
}

/** What a rule wants, why, and its text. */
function Shown({ name, close }: { name: string; close: () => void }) {
  const rule = useQuery({
    queryKey: ["rules", "one", name],
    queryFn: () => got(api.GET("/rules/{name}", { params: { path: { name } } })),
  });
  return (
    <Modal open close={close} wide title={name} about="As it is written, in Kubernetes' own format.">
      {rule.error && <Wrong error={rule.error} />}
      {rule.data?.items.map((r) => (
        <div key={`${r.book} ${r.declared_at}`} className="space-y-3">
          <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-sm">
            {(
              [
                ["Why", r.why],
                ["Instead", r.instead],
                ["Looks at", r.looks_at],
                ["For", r.for_whom],
                [
                  "Of",
                  r.off
                    ? "Vigila; name it under ours: in a rulebook file"
                    : `${r.book} ${r.declared_at ?? ""}`,
                ],
                ["Holds for", r.used_by.length > 0 ? few(r.used_by) : ""],
              ] as const
            ).map(
              ([what, text]) =>
                text && (
                  <div key={what} className="contents">
                    <dt className="text-soft">{what}</dt>
                    <dd>{text}</dd>
                  </div>
                ),
            )}
          </dl>
          <pre
            tabIndex={0}
            className="max-h-[45vh] overflow-auto rounded-md border border-rule bg-paper p-3 font-mono text-xs"
          >
            {r.text}
          </pre>
        </div>
      ))}
    </Modal>
  );
}

const glyph: Record<string, [string, string]> = {
  refuse: ["▲ refuses", "text-failing"],
  warn: ["warns", "text-soft"],
  excepted: ["let be", "text-soft"],
};

function Broken() {
  const list = useList();
  const [params] = useSearchParams();
  const ward = params.get("ward") ?? "";
  const of = params.get("broken") === "yes" ? "" : (params.get("broken") ?? "");
  const found = useQuery({
    queryKey: ["rules", "broken", of, ward, list.search, list.offset],
    queryFn: () => got(api.GET("/findings", { params: { query: { ...list.query, rule: of, ward } } })),
    placeholderData: keepPreviousData,
  });
  if (found.error && !found.data) return <Wrong error={found.error} />;
  if (!found.data) return <p className="text-soft">Reading what breaks rules…</p>;
  const { items, total, breaking, warned_of, let_be } = found.data;
  return (
    <Page
      title={of ? `What breaks ${of}` : ward ? `What of ${ward} breaks rules` : "What breaks rules"}
      about={
        breaking + warned_of + let_be === 0
          ? "Nothing."
          : `${[breaking > 0 && `${breaking} would be refused`, warned_of > 0 && `${warned_of} ${warned_of === 1 ? "is" : "are"} warned of`, let_be > 0 && `${let_be} let be by exceptions`].filter(Boolean).join(", ")}${of ? ", over all rules" : ""}.`
      }
      add={
        <Link
          to={of || ward ? "/rules?broken=yes" : "/rules"}
          className="self-center text-sm underline underline-offset-2"
        >
          {of || ward ? "All that breaks rules" : "The rules"}
        </Link>
      }
      list={list}
      total={total}
      things="findings"
      heads={["What", "Breaks", "Instead"]}
    >
      {items.map((f, i) => (
        <Row
          key={`${f.ward} ${f.rule} ${f.kind} ${f.namespace} ${f.name} ${f.text}`}
          of={f}
          told={items[i - 1]?.rule === f.rule}
        />
      ))}
    </Page>
  );
}

/** told: what to write instead stands in the row above. */
function Row({ of: f, told }: { of: Finding; told: boolean }) {
  return (
    <tr className="border-b border-rule align-baseline" data-finding={`${f.ward} ${f.rule}`}>
      <td className="px-3 py-2 text-sm">
        <Link to={`/wards/${f.ward}`} className="underline decoration-rule underline-offset-2">
          {f.ward}
        </Link>
        <span className="block font-mono text-xs">
          {f.kind}/{f.name}
        </span>
        {f.file && (
          <span className="block font-mono text-xs text-soft">
            {f.file.split("/").map((part, i) => (
              <span key={i}>
                {i > 0 && "/"}
                <wbr />
                {part}
              </span>
            ))}
            :{f.line}
          </span>
        )}
      </td>
      <td className="px-3 text-sm">
        <span className="font-mono font-bold">{f.rule}</span>{" "}
        <span className={glyph[f.says]?.[1]}>{glyph[f.says]?.[0]}</span>
        <span className="block">{f.text}</span>
        {f.exception?.why && (
          <span className="block text-soft">
            {f.exception.has_ended ? "An exception let it be until" : "An exception lets it be until"}{" "}
            {f.exception.last_day}: {f.exception.why} ({f.exception.owner})
          </span>
        )}
      </td>
      <td className="max-w-md px-3 text-sm text-soft">{!told && f.instead}</td>
    </tr>
  );
}

/** A rule that holds nowhere yet, against all that is declared. */
function Try({ close }: { close: () => void }) {
  const [text, setText] = useState("");
  const act = useMutation({ mutationFn: () => got(api.POST("/rules/try", { body: { text } })) });
  const found = act.data?.items ?? [];
  return (
    <Modal
      open
      close={close}
      wide
      title="Try a rule"
      about="A ValidatingAdmissionPolicy, held against all that wards declare now. Nothing changes."
    >
      <label className="block text-sm">
        <span className="text-soft">The policy, as YAML</span>
        <textarea
          id="policy"
          value={text}
          rows={10}
          spellCheck={false}
          onChange={(e) => setText(e.target.value)}
          className="mt-1 block w-full rounded-md border border-rule bg-paper px-2.5 py-1.5 font-mono text-xs"
        />
      </label>
      {act.error && <Wrong error={act.error} />}
      {act.data && (
        <div className="mt-3 text-sm" role="status">
          <p>
            {found.length === 0 ? "Nothing would break it" : `${found.length} would break it`}, of{" "}
            {count(act.data.objects_tried, "object")} of {count(act.data.wards_tried, "ward")}.
            {!!act.data.unread?.length && ` Not known is what is declared by ${few(act.data.unread)}.`}
          </p>
          <ul className="mt-2 max-h-[30vh] space-y-1 overflow-auto">
            {found.map((f) => (
              <li key={`${f.ward} ${f.rule} ${f.kind} ${f.namespace} ${f.name} ${f.text}`}>
                <Link to={`/wards/${f.ward}`} className="underline decoration-rule underline-offset-2">
                  {f.ward}
                </Link>{" "}
                <span className="font-mono text-xs">
                  {f.kind}/{f.name}
                </span>
                : {f.text}
              </li>
            ))}
          </ul>
        </div>
      )}
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={close}>Close</Button>
        <Button strong disabled={!text.trim() || act.isPending} onClick={() => act.mutate()}>
          Try it
        </Button>
      </div>
    </Modal>
  );
}
