// Small parts that several pages share.
import { Dialog, DropdownMenu, Tooltip } from "radix-ui";
import {
  type ButtonHTMLAttributes,
  type ReactNode,
  createContext,
  useContext,
  useEffect,
  useState,
} from "react";
import type { Schemas, Ward } from "./api";
import { healthGlyph, standingGlyph } from "./words";

/** The time, moving on every second. */
export function useNow(): number {
  const [now, set] = useState(Date.now());
  useEffect(() => {
    const t = setInterval(() => set(Date.now()), 1000);
    return () => clearInterval(t);
  }, []);
  return now;
}

const toneColor: Record<string, string> = {
  drifted: "text-drifted",
  behind: "text-behind",
  failing: "text-failing",
  contested: "text-contested",
};

export function Standing({ is, word }: { is: Schemas["Standing"]; word?: boolean }) {
  return (
    <span title={is} className="inline-flex items-baseline gap-1.5 whitespace-nowrap">
      <span
        aria-hidden={word}
        aria-label={word ? undefined : is}
        className={`font-mono font-bold ${toneColor[is] ?? "text-soft"}`}
      >
        {standingGlyph[is]}
      </span>
      {word && is}
    </span>
  );
}

export function Health({
  is,
  reason,
  word = true,
}: {
  is: Schemas["Health"];
  reason?: string;
  word?: boolean;
}) {
  return (
    <span
      title={reason ? `${is}: ${reason}` : is}
      className="inline-flex items-baseline gap-1 text-sm whitespace-nowrap"
    >
      <span aria-hidden className={is === "failing" ? "text-failing" : "text-soft"}>
        {healthGlyph[is]}
      </span>
      {word ? is : <span className="sr-only">{is}</span>}
    </span>
  );
}

/** The glyph at the start of a board's line: what is worst about a ward. */
export function ToneGlyph({ ward }: { ward: Ward }) {
  if (ward.worst === "failing") {
    return (
      <span title="failing" aria-label="failing" className="text-lg text-failing">
        ▲
      </span>
    );
  }
  return (
    <span className={ward.needs_you ? "text-xl" : "text-base"}>
      <Standing is={ward.standing} />
    </span>
  );
}

export type Verb = Schemas["Verb"];

/** What a control does: a verb that teams can be given, or true for what is for operators. */
export type Does = boolean | Verb | "review";

/** Who is signed in, and what they may to what the page is about. */
export const May = createContext<{ role: Schemas["Role"]; to?: Verb[] }>({ role: "operator" });

/** Why somebody may not do something; "" when they may. */
function useMayNot(): (does?: Does) => string {
  const { role, to } = useContext(May);
  return (does) => {
    if ((does === "set secrets" || does === "review") && role === "member") return ""; // the service decides, by what it is about
    if (!does || role === "operator" || role === "admin") return "";
    if (typeof does === "string" && does !== "review" && to?.includes(does)) return "";
    if (role === "reader") return "You are a reader, who changes nothing; an operator may.";
    return typeof does === "string"
      ? `No team of yours may ${does} here; an operator may.`
      : "This is for operators.";
  };
}

/** A button; one that does something is not for everybody. */
export function Button({
  strong,
  tip,
  changes,
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { strong?: boolean; tip?: string; changes?: Does }) {
  const not = useMayNot()(changes);
  const look = strong
    ? "bg-ink text-paper border-ink hover:opacity-90"
    : "bg-sheet text-ink border-rule hover:border-soft";
  const b = (
    <button
      type="button"
      className={`rounded-md border px-3.5 py-1.5 text-sm font-bold whitespace-nowrap disabled:opacity-50 ${look} ${className}`}
      {...rest}
      {...(not ? { disabled: true, title: not } : {})}
    />
  );
  return tip && !not ? <Tip text={tip}>{b}</Tip> : b;
}

export function Tip({ text, children }: { text: string; children: ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          sideOffset={6}
          className="z-30 max-w-72 rounded-md bg-ink px-2.5 py-1.5 text-xs text-paper shadow-lg"
        >
          {text}
          <Tooltip.Arrow className="fill-ink" />
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

export function Modal({
  open,
  close,
  title,
  about,
  wide,
  children,
}: {
  open: boolean;
  close: () => void;
  title: string;
  about?: string;
  wide?: boolean;
  children: ReactNode;
}) {
  return (
    <Dialog.Root open={open} onOpenChange={(o) => !o && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/40" />
        <Dialog.Content
          {...(about ? {} : { "aria-describedby": undefined })}
          className={`fixed top-16 left-1/2 z-20 max-h-[85vh] max-w-[94vw] -translate-x-1/2 overflow-auto rounded-lg border border-rule bg-sheet p-6 shadow-2xl ${wide ? "w-[52rem]" : "w-[36rem]"}`}
        >
          <Dialog.Title className="text-xl font-bold">{title}</Dialog.Title>
          {about && <Dialog.Description className="mt-1 text-soft">{about}</Dialog.Description>}
          <div className="mt-4">{children}</div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

export function Panel({
  title,
  side,
  children,
}: {
  title: ReactNode;
  side?: ReactNode;
  children: ReactNode;
}) {
  return (
    <section className="min-w-0 rounded-lg border border-rule bg-sheet">
      <header className="flex min-h-10 items-center justify-between gap-3 border-b border-rule px-3.5 py-1.5 text-sm font-bold">
        <h2 className="min-w-0 truncate">{title}</h2>
        <div className="shrink-0">{side}</div>
      </header>
      {children}
    </section>
  );
}

/** Links to elsewhere, as buttons; what is no address of the web leads nowhere. */
export function Links({ of }: { of?: Record<string, string> }) {
  return Object.entries(of ?? {})
    .filter(([, url]) => /^https?:\/\//.test(url))
    .map(([name, url]) => (
      <a
        key={name}
        href={url}
        title={url}
        rel="noreferrer"
        target="_blank"
        className="ml-2 inline-block rounded-md border border-rule bg-sheet px-2.5 py-1 text-sm whitespace-nowrap hover:border-soft"
      >
        {name} <span aria-hidden>↗</span>
      </a>
    ));
}

export function Wrong({ error }: { error: Error }) {
  return (
    <p role="alert" className="my-4 rounded-md border border-failing bg-sheet px-4 py-3">
      <span aria-hidden className="mr-2 text-failing">
        ▲
      </span>
      {error.message}
    </p>
  );
}

/** Less common actions, behind one button. */
/** An entry of a menu: what it says, what it does, and what one must be let to do for it. */
export type Item = [text: string, act: () => void, does?: "changes" | Verb];

export function Menu({ label, items }: { label: string; items: Item[] }) {
  const mayNot = useMayNot();
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <Button>{label}</Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={6}
          className="z-20 min-w-64 rounded-md border border-rule bg-sheet py-1.5 shadow-xl"
        >
          {items.map(([text, act, changes]) => (
            <DropdownMenu.Item
              key={text}
              onSelect={act}
              disabled={!!mayNot(changes === "changes" ? true : changes)}
              title={mayNot(changes === "changes" ? true : changes) || undefined}
              className="cursor-default px-4 py-1.5 text-sm outline-none data-[disabled]:opacity-50 data-[highlighted]:bg-rule"
            >
              {text}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** The reason for something, for whoever looks next. */
export function Reason({ value, set }: { value: string; set: (s: string) => void }) {
  return (
    <label className="mt-3 block text-sm">
      <span className="text-soft">Why, for whoever looks next</span>
      <input
        value={value}
        onChange={(e) => set(e.target.value)}
        className="mt-1 block w-full rounded-md border border-rule bg-paper px-2.5 py-1.5"
      />
    </label>
  );
}

/** For how many hours: one of some times. */
export function Hours({
  label,
  value,
  set,
  of,
}: {
  label: string;
  value: number;
  set: (hours: number) => void;
  of: [hours: number, text: string][];
}) {
  return (
    <label className="mt-3 block text-sm">
      <span className="text-soft">{label}</span>
      <select
        value={value}
        onChange={(e) => set(Number(e.target.value))}
        className="mt-1 block w-full rounded-md border border-rule bg-paper px-2.5 py-1.5"
      >
        {of.map(([hours, text]) => (
          <option key={hours} value={hours}>
            {text}
          </option>
        ))}
      </select>
    </label>
  );
}

/** One of some words, or any. */
export function Choice({
  label,
  value,
  of,
  set,
  any = "any",
}: {
  label: string;
  value: string;
  of: readonly (string | [value: string, text: string])[];
  set: (s: string) => void;
  any?: string;
}) {
  return (
    <label className="inline-flex items-center gap-1.5">
      <span className="text-soft">{label}</span>
      <select
        value={value}
        onChange={(e) => set(e.target.value)}
        className={`max-w-44 rounded border bg-paper px-1.5 py-0.5 ${value ? "border-ink font-bold" : "border-rule"}`}
      >
        <option value="">{any}</option>
        {of.map((o) => {
          const [v, text] = typeof o === "string" ? [o, o] : o;
          return (
            <option key={v} value={v}>
              {text}
            </option>
          );
        })}
      </select>
    </label>
  );
}

/** Goes through the pages of a list; shown only when there is more than one. */
export function Pages({
  total,
  limit,
  offset,
  go,
}: {
  total: number;
  limit: number;
  offset: number;
  go: (offset: number) => void;
}) {
  if (total <= limit) return null;
  return (
    <nav aria-label="Pages" className="mt-4 flex items-center gap-3 text-sm">
      <Button disabled={offset === 0} onClick={() => go(Math.max(0, offset - limit))}>
        Previous page
      </Button>
      <span className="text-soft">
        {offset + 1} to {Math.min(total, offset + limit)} of {total}
      </span>
      <Button disabled={offset + limit >= total} onClick={() => go(offset + limit)}>
        Next page
      </Button>
    </nav>
  );
}
