// A form made from a JSON Schema, by react-jsonschema-form with fields that look like all others here. What is wrong with a value is said by
// the service, beside its field; the schema's own defaults are shown where nothing was typed, and never sent.
import { type OutputUnit, Validator } from "@cfworker/json-schema";
import Rjsf from "@rjsf/core/lib/components/Form.js";
import type {
  BaseInputTemplateProps,
  ErrorSchema,
  FieldProps,
  FieldTemplateProps,
  ObjectFieldTemplateProps,
  RJSFSchema,
  UiSchema,
  ValidatorType,
  WidgetProps,
} from "@rjsf/utils";
import { useState } from "react";
import type { Schemas } from "../shared/api";

export type Given = Record<string, unknown>;
type Kit = Schemas["Kit"];
type Mistake = Schemas["ValueMistake"];

type Context = { sections: Schemas["FormSection"][]; completed: Given; fixed: string[] };

/** Which of several shapes a value has, where a schema leaves a choice; ajv would make functions of text, which this page forbids. */
const shapes: ValidatorType = {
  isValid: (schema, data) => new Validator(schema as never, "2020-12").validate(data).valid,
  validateFormData: () => ({ errors: [], errorSchema: {} }),
  rawValidation: <T,>(schema: RJSFSchema, data?: unknown) => ({
    errors: new Validator(schema as never, "2020-12").validate(data).errors as OutputUnit[] as T[],
  }),
};

const at = (of: Given, path: (string | number)[]): unknown =>
  path.reduce<unknown>((v, k) => (v as Given | undefined)?.[k as string], of);

/** Without defaults, which the service fills in, and with the clusters that there are to choose from. */
function asked(schema: Given, choices: string[]): RJSFSchema {
  const { default: _, properties, ...rest } = schema;
  return {
    ...rest,
    ...(schema.format === "cluster" ? { enum: choices, format: undefined } : {}),
    ...(properties
      ? {
          properties: Object.fromEntries(
            Object.entries(properties as Record<string, Given>).map(([k, v]) => [k, asked(v, choices)]),
          ),
        }
      : {}),
  };
}

/** What would be taken where nothing is chosen. */
function fallback(p: { id: string; registry: { formContext: unknown } }) {
  const v = at((p.registry.formContext as Context).completed, p.id.split(".").slice(1));
  return v === undefined || typeof v === "object" ? "" : String(v);
}

/** What has no fields of its own: a list, or a mapping of anything, is written as JSON. */
const free = (s: Given) =>
  s.type === "array" || (s.type === "object" && !s.properties) || (!s.type && !s.enum && !s.properties);

/** Which parts of a form are written as JSON. */
function shapedBy(schema: Given): UiSchema {
  return Object.fromEntries(
    Object.entries((schema.properties ?? {}) as Record<string, Given>).map(([k, v]) => [
      k,
      free(v) ? { "ui:field": "json" } : shapedBy(v),
    ]),
  );
}

function Json(p: FieldProps) {
  const [text, setText] = useState(p.formData === undefined ? "" : JSON.stringify(p.formData));
  const [bad, setBad] = useState("");
  const id = p.fieldPathId.$id;
  const example = (p.schema.examples as unknown[] | undefined)?.[0];
  return (
    <div className="min-w-0 text-sm sm:col-span-2" data-field={id}>
      <label htmlFor={id} className="font-bold">
        {p.schema.title ?? p.name}
      </label>
      <textarea
        id={id}
        rows={2}
        spellCheck={false}
        className={`${box} ${edge(bad !== "")} font-mono`}
        placeholder={example === undefined ? "JSON" : JSON.stringify(example)}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          if (e.target.value.trim() === "") {
            setBad("");
            p.onChange(undefined, p.fieldPathId.path);
            return;
          }
          try {
            p.onChange(JSON.parse(e.target.value), p.fieldPathId.path);
            setBad("");
          } catch (x) {
            setBad(x instanceof Error ? x.message : String(x));
          }
        }}
      />
      {p.schema.description && <p className="mt-0.5 text-xs text-soft">{p.schema.description}</p>}
      {bad && (
        <p role="alert" className="mt-0.5 break-words">
          <span aria-hidden className="mr-1.5 text-failing">
            ▲
          </span>
          This is not JSON: {bad}
        </p>
      )}
    </div>
  );
}

const box =
  "mt-1 block w-full rounded-md border bg-paper px-2.5 py-1.5 placeholder:text-soft/80 disabled:opacity-60";
const edge = (wrong: boolean) => (wrong ? "border-failing" : "border-rule");

function Input(p: BaseInputTemplateProps) {
  const wrong = (p.rawErrors?.length ?? 0) > 0;
  const number = p.schema.type === "integer" || p.schema.type === "number";
  const example = (p.schema.examples as unknown[] | undefined)?.[0];
  const without = fallback(p);
  return (
    <input
      id={p.id}
      aria-describedby={`${p.id}-about`}
      aria-invalid={wrong}
      inputMode={number ? "decimal" : "text"}
      autoComplete="off"
      spellCheck={false}
      disabled={p.disabled || p.readonly}
      className={`${box} ${edge(wrong)}`}
      placeholder={without || (example === undefined ? "" : `for instance ${String(example)}`)}
      value={p.value === undefined || p.value === null ? "" : String(p.value)}
      onChange={(e) => {
        const text = e.target.value;
        p.onChange(text === "" ? undefined : number && /^-?\d+(\.\d+)?$/.test(text) ? Number(text) : text);
      }}
      onBlur={() => p.onBlur(p.id, p.value)}
    />
  );
}

function Select(p: WidgetProps) {
  const wrong = (p.rawErrors?.length ?? 0) > 0;
  const without = fallback(p);
  return (
    <select
      id={p.id}
      aria-describedby={`${p.id}-about`}
      aria-invalid={wrong}
      disabled={p.disabled || p.readonly}
      className={`${box} ${edge(wrong)}`}
      value={p.value === undefined ? "" : String(p.value)}
      onChange={(e) =>
        p.onChange(p.options.enumOptions?.find((o) => String(o.value) === e.target.value)?.value)
      }
      onBlur={() => p.onBlur(p.id, p.value)}
    >
      <option value="">{without && p.value === undefined ? without : "choose…"}</option>
      {p.options.enumOptions?.map((o) => (
        <option key={String(o.value)} value={String(o.value)}>
          {String(o.label)}
        </option>
      ))}
    </select>
  );
}

function Check(p: WidgetProps) {
  const without = fallback(p) === "true";
  return (
    <label className="mt-1 flex items-center gap-2 text-sm">
      <input
        id={p.id}
        type="checkbox"
        aria-describedby={`${p.id}-about`}
        disabled={p.disabled || p.readonly}
        checked={p.value === undefined ? without : p.value === true}
        onChange={(e) => p.onChange(e.target.checked)}
      />
      <strong>{p.label}</strong>
    </label>
  );
}

function Field(p: FieldTemplateProps) {
  if (p.hidden || p.schema.type === "object") return p.children;
  const errors = p.rawErrors ?? [];
  return (
    <div className="min-w-0 text-sm" data-field={p.id}>
      {p.schema.type !== "boolean" && (
        <label htmlFor={p.id} className="font-bold">
          {p.label}
        </label>
      )}
      {p.children}
      <p id={`${p.id}-about`} className="mt-0.5 text-xs text-soft">
        {p.schema.description}
      </p>
      {errors.map((e) => (
        <p key={e} className="mt-0.5 break-words" role="alert">
          <span aria-hidden className="mr-1.5 text-failing">
            ▲
          </span>
          {e}
        </p>
      ))}
    </div>
  );
}

function Sections(p: ObjectFieldTemplateProps) {
  const { sections } = p.registry.formContext as Context;
  const grid = "grid gap-x-5 gap-y-3.5 sm:grid-cols-2";
  if (p.fieldPathId.path.length > 0) {
    return (
      <fieldset className="min-w-0 sm:col-span-2">
        <legend className="text-sm font-bold">{p.title}</legend>
        <div className={`mt-2 ${grid}`}>{p.properties.map((x) => x.content)}</div>
      </fieldset>
    );
  }
  return sections.map((s) => (
    <fieldset key={s.title} className="mb-6 min-w-0">
      {s.title && <legend className="mb-2 font-bold">{s.title}</legend>}
      <div className={grid}>
        {s.of_parameters.map((name) => p.properties.find((x) => x.name === name)?.content)}
      </div>
    </fieldset>
  ));
}

/** Mistakes by their places, as the form has them. */
function placed(mistakes: Mistake[]): ErrorSchema {
  const out: Record<string, never> & ErrorSchema = {};
  for (const m of mistakes) {
    let here = out as Record<string, Record<string, unknown>> & { __errors?: string[] };
    for (const k of m.at_value) here = (here[k] ??= {}) as typeof here;
    here.__errors = [...(here.__errors ?? []), m.says.trim().replace(/, (and|says) kit [\w-]+.*$/, "")];
  }
  return out;
}

export function KitForm({
  kit,
  given,
  set,
  completed,
  mistakes,
  left,
}: {
  kit: Kit;
  given: Given;
  set: (g: Given) => void;
  completed: Given;
  mistakes: Mistake[];
  left: (field: string) => void;
}) {
  const context: Context = { sections: kit.sections ?? [], completed, fixed: [] };
  return (
    <Rjsf
      tagName="div"
      schema={asked((kit.parameters ?? {}) as Given, kit.choices ?? [])}
      validator={shapes}
      formData={given}
      formContext={context}
      onChange={(e) => set((e.formData ?? {}) as Given)}
      idSeparator="."
      onBlur={(id) => left(id.replace(/^root\./, ""))}
      extraErrors={placed(mistakes)}
      showErrorList={false}
      noHtml5Validate
      uiSchema={{
        ...shapedBy((kit.parameters ?? {}) as Given),
        "ui:submitButtonOptions": { norender: true },
      }}
      fields={{ json: Json }}
      experimental_defaultFormStateBehavior={{ emptyObjectFields: "skipDefaults" }}
      templates={{ FieldTemplate: Field, ObjectFieldTemplate: Sections, BaseInputTemplate: Input }}
      widgets={{ SelectWidget: Select, CheckboxWidget: Check }}
    >
      <></>
    </Rjsf>
  );
}
