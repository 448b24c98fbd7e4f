import { useState } from "react";
import { api, got, token } from "./api";
import { Button, Wrong } from "./parts";

/** Takes a sign-in link or the token in it. */
export function SignIn({ done }: { done: () => void }) {
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState<Error>();
  const submit = async () => {
    token.set(text.trim().replace(/^.*#sign-in=/, ""));
    try {
      await got(api.GET("/me"));
      done();
    } catch (e) {
      token.clear();
      setWrong(e as Error);
    }
  };
  return (
    <main className="mx-auto mt-32 w-[30rem] max-w-[92vw]">
      <h1 className="flex items-center gap-3 text-2xl font-bold">
        <span aria-hidden className="size-3 rounded-full bg-drifted ring-4 ring-drifted/25" />
        Vigila
      </h1>
      <p className="mt-4">
        Open the sign-in link that the service printed at its first start, or paste it here. It is shown once;
        whoever started the service has it.
      </p>
      <form
        className="mt-5 flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          void submit();
        }}
      >
        <input
          autoFocus
          type="password"
          autoComplete="off"
          aria-label="Sign-in link or token"
          placeholder="Sign-in link or token"
          value={text}
          onChange={(e) => setText(e.target.value)}
          className="flex-1 rounded-md border border-rule bg-sheet px-3 py-1.5"
        />
        <Button strong type="submit" disabled={!text.trim()}>
          Sign in
        </Button>
      </form>
      {wrong && <Wrong error={wrong} />}
    </main>
  );
}
