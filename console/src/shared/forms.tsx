// Forms: every field says what it is for.
import { useMutation } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Button, Modal, Wrong } from "./parts";

export type Values = Record<string, string | boolean>;

export type Field = {
  name: string;
  label: string;
  help: string;
  kind?: "text" | "secret" | "area" | "secret area" | "check" | "choice";
  of?: string[]; // of a choice
  example?: string;
  when?: (v: Values) => boolean; // shown only then
  fixed?: boolean; // it names the thing, which is there already
};

const box = "mt-1 block w-full rounded-md border border-rule bg-paper px-2.5 py-1.5 disabled:opacity-60";

export function Fields({
  fields,
  values,
  set,
}: {
  fields: Field[];
  values: Values;
  set: (v: Values) => void;
}) {
  return (
    <div className="grid gap-x-5 gap-y-3.5 sm:grid-cols-2">
      {fields
        .filter((f) => f.when?.(values) ?? true)
        .map((f) => (
          <One
            key={f.name}
            field={f}
            value={values[f.name] ?? ""}
            set={(v) => set({ ...values, [f.name]: v })}
          />
        ))}
    </div>
  );
}

function One({
  field: f,
  value,
  set,
}: {
  field: Field;
  value: string | boolean;
  set: (v: string | boolean) => void;
}) {
  const about = `about-${f.name}`;
  const shared = { id: f.name, "aria-describedby": about, disabled: f.fixed };
  const help = (
    <span id={about} className="mt-0.5 block text-xs text-soft">
      {f.help}
    </span>
  );
  if (f.kind === "check") {
    return (
      <label className="block text-sm sm:col-span-2">
        <input {...shared} type="checkbox" checked={value === true} onChange={(e) => set(e.target.checked)} />{" "}
        <strong>{f.label}</strong>
        {help}
      </label>
    );
  }
  const text = String(value === false ? "" : value);
  const wide = f.kind?.endsWith("area") ? "sm:col-span-2" : "";
  return (
    <label className={`block text-sm ${wide}`}>
      <strong>{f.label}</strong>
      {f.kind === "choice" ? (
        <select {...shared} className={box} value={text} onChange={(e) => set(e.target.value)}>
          {f.of?.map((o) => (
            <option key={o}>{o}</option>
          ))}
        </select>
      ) : f.kind?.endsWith("area") ? (
        <textarea
          {...shared}
          rows={3}
          spellCheck={false}
          className={`${box} font-mono`}
          placeholder={f.example}
          value={text}
          onChange={(e) => set(e.target.value)}
        />
      ) : (
        <input
          {...shared}
          type={f.kind === "secret" ? "password" : "text"}
          autoComplete="off"
          spellCheck={false}
          className={box}
          placeholder={f.example}
          value={text}
          onChange={(e) => set(e.target.value)}
        />
      )}
      {help}
    </label>
  );
}

/** A dialog that asks for some values, sends them, and says what came of it. */
export function FormDialog({
  title,
  about,
  fields,
  start,
  close,
  label,
  send,
  below,
}: {
  title: string;
  about: string;
  fields: Field[];
  start: Values;
  close: () => void;
  label: string;
  send: (v: Values) => Promise<ReactNode>; // what to say afterwards; nothing closes the dialog
  below?: (v: Values) => ReactNode;
}) {
  const [values, set] = useState(start);
  const [said, say] = useState<ReactNode>();
  const act = useMutation({
    mutationFn: () => send(values),
    onSuccess: (what) => (what ? say(what) : close()),
  });
  return (
    <Modal open close={close} title={title} about={about} wide>
      {said ? (
        <>
          <div role="status">{said}</div>
          <div className="mt-5 flex justify-end">
            <Button strong onClick={close}>
              Close
            </Button>
          </div>
        </>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            act.mutate();
          }}
        >
          <Fields fields={fields} values={values} set={set} />
          {below?.(values)}
          {act.error && <Wrong error={act.error} />}
          <div className="mt-5 flex justify-end gap-2">
            <Button onClick={close}>Cancel</Button>
            <Button strong type="submit" disabled={act.isPending}>
              {act.isPending ? "One moment…" : label}
            </Button>
          </div>
        </form>
      )}
    </Modal>
  );
}

/** Reads "a=b, c=d" or a line each as a mapping. */
export function pairs(text: string): Record<string, string> {
  const out: Record<string, string> = {};
  for (const part of text.split(/[,\n]/)) {
    const at = part.indexOf("=");
    if (at > 0) out[part.slice(0, at).trim()] = part.slice(at + 1).trim();
  }
  return out;
}

export const pairText = (m?: Record<string, string>) =>
  Object.entries(m ?? {})
    .sort()
    .map(([k, v]) => `${k}=${v}`)
    .join(", ");

export const names = (text: string) => text.split(/[\s,]+/).filter(Boolean);
