// Secret references that wards declare, and whether stores have their values; a value is set here, and never shown.
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { type Schemas, api, got } from "../shared/api";
import { FormDialog } from "../shared/forms";
import { Page, text, useList } from "../shared/lists";
import { Button, Wrong } from "../shared/parts";
import { count } from "../shared/words";

type Secret = Schemas["Secret"];

const value: Record<string, [glyph: string, color: string]> = {
  missing: ["▲", "text-behind"],
  refused: ["▲", "text-behind"],
  unknown: ["?", "text-soft"],
  set: ["●", "text-soft"],
};

export function SecretsPage() {
  const list = useList();
  const client = useQueryClient();
  const [params, setParams] = useSearchParams();
  const missing = params.get("missing") === "yes";
  const [setting, set] = useState<Secret>();
  const secrets = useQuery({
    queryKey: ["secrets", list.search, missing, list.offset],
    queryFn: () => got(api.GET("/secrets", { params: { query: { ...list.query, missing } } })),
    placeholderData: keepPreviousData,
  });
  if (secrets.error && !secrets.data) return <Wrong error={secrets.error} />;
  if (!secrets.data) return <p className="text-soft">Reading the references…</p>;
  const { items, total } = secrets.data;
  const lacks = secrets.data.missing;
  return (
    <>
      <Page
        title="Secrets"
        about={
          lacks > 0
            ? `${count(lacks, "reference")} ${lacks === 1 ? "has" : "have"} no value; what needs ${lacks === 1 ? "it" : "them"} is not applied.`
            : total || list.search || missing
              ? "Every reference has a value, as far as its store is known."
              : "No ward refers to a secret value. A Secret does with secret://STORE/PATH#KEY in place of a value."
        }
        add={
          (lacks > 0 || missing) && (
            <Button
              onClick={() => {
                list.setSearch(list.search);
                setParams(missing ? {} : { missing: "yes" });
              }}
            >
              {missing ? "Show all" : "Only what is missing"}
            </Button>
          )
        }
        list={list}
        total={total}
        heads={["Reference", "Value", "Referred to by"]}
      >
        {items.map((s) => (
          <tr key={s.reference} className="border-b border-rule align-baseline" data-secret={s.reference}>
            <td className="px-3 py-2 font-mono text-sm break-all">
              <strong>{s.reference}</strong>
            </td>
            <td className="px-3 text-sm">
              <span className={value[s.says]?.[1]}>{value[s.says]?.[0]}</span> {s.says}
              {s.version && s.says === "set" && <span className="text-soft">, version {s.version}</span>}
              {s.reason && <span className="block text-soft">{s.reason}</span>}
            </td>
            <td className="px-3 text-sm">
              {s.objects_using.map((o) => {
                const [ward, name] = o.split(" ");
                return (
                  <span key={o} className="block">
                    <Link to={`/wards/${ward}`} className="underline decoration-rule underline-offset-2">
                      {ward}
                    </Link>{" "}
                    <span className="text-soft">{name}</span>
                  </span>
                );
              })}
            </td>
            <td className="py-1.5 text-right">
              {s.set_by && <span className="text-sm text-soft">{s.set_by}</span>}
              {s.says !== "refused" && !s.set_by && (
                <Button changes="set secrets" strong={s.says === "missing"} onClick={() => set(s)}>
                  {s.says === "missing" ? "Set it" : "Set another"}
                </Button>
              )}
            </td>
          </tr>
        ))}
      </Page>
      {setting && (
        <FormDialog
          title={setting.says === "missing" ? "Set a secret value" : "Set another secret value"}
          about={`Store ${setting.store} keeps it. Who set it is written into the logbooks of the wards that refer to it, and never the value.`}
          label="Set the value"
          fields={[
            ...(setting.key
              ? []
              : [
                  {
                    name: "key",
                    label: "Key",
                    help: `All keys at ${setting.path} are taken; this is one of them.`,
                  },
                ]),
            {
              name: "value",
              label: setting.reference,
              help: "As it is, line breaks too. It is not shown again.",
              kind: "secret area" as const,
            },
          ]}
          start={{}}
          close={() => set(undefined)}
          send={async (v) => {
            const reference = setting.key ? setting.reference : `${setting.reference}#${text(v, "key")}`;
            await got(api.POST("/secrets", { body: { reference, value: text(v, "value") } }));
            for (const key of ["secrets", "stores", "wards"])
              void client.invalidateQueries({ queryKey: [key] });
            return undefined;
          }}
        />
      )}
    </>
  );
}
