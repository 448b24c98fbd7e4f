import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, signIn } from "../shared/api";
import { Button, Wrong } from "../shared/parts";

/** Signs in by a provider, or takes a sign-in link or the token in it. */
export function SignIn({ done, wrong: before }: { done: () => void; wrong?: Error }) {
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState(before);
  const ways = useQuery({ queryKey: ["sign-in"], queryFn: () => got(api.GET("/sign-in")) });
  const submit = async () => {
    try {
      await signIn(text.trim().replace(/^.*#sign-in=/, ""));
      done();
    } catch (e) {
      setWrong(e as Error);
    }
  };
  const providers = ways.data?.items ?? [];
  if (!ways.isFetched) return null; // what is focused depends on it
  const to = encodeURIComponent(location.pathname + location.search);
  return (
    <main className="mx-auto mt-32 w-[30rem] max-w-[92vw]">
      <h1 className="flex items-center gap-3 text-2xl font-bold">
        <span aria-hidden className="size-3 rounded-full bg-drifted ring-4 ring-drifted/25" />
        Vigila
      </h1>
      {wrong && <Wrong error={wrong} />}
      {ways.error && !wrong && <Wrong error={ways.error} />}
      {providers.map((p) => (
        <a
          key={p.name}
          href={`/sign-in/start?provider=${encodeURIComponent(p.name)}&to=${to}`}
          className="mt-5 block rounded-md border border-ink bg-ink px-3 py-2 text-center text-paper hover:opacity-85"
        >
          Sign in with {p.name}
          {p.about && <span className="opacity-75">, {p.about}</span>}
        </a>
      ))}
      <p className="mt-5">
        {providers.length > 0
          ? "Or open a sign-in link, or paste it here: "
          : "Open a sign-in link, or paste it here: "}
        the one that the service printed at its first start, or one of{" "}
        <code className="font-mono text-sm">vigila token make</code>. Where nobody has one any more:{" "}
        <code className="font-mono text-sm">vigila serve --make-admin-token</code>, on the service's machine.
      </p>
      <form
        className="mt-5 flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          void submit();
        }}
      >
        <input
          autoFocus={providers.length === 0}
          type="password"
          autoComplete="off"
          aria-label="Sign-in link or token"
          placeholder="Sign-in link or token"
          value={text}
          onChange={(e) => setText(e.target.value)}
          className="flex-1 rounded-md border border-rule bg-sheet px-3 py-1.5"
        />
        <Button strong={providers.length === 0} type="submit" disabled={!text.trim()}>
          Sign in
        </Button>
      </form>
    </main>
  );
}
