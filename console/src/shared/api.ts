// Calls to the service, typed by api/openapi.yaml, and the token that signs them.
import { createParser } from "eventsource-parser";
import createClient, { type Middleware } from "openapi-fetch";
import type { components, paths } from "./api.gen";

export type Schemas = components["schemas"];
export type Ward = Schemas["Ward"];
export type WardDetail = Schemas["WardDetail"];
export type WardObject = Schemas["Object"];
export type Entry = Schemas["Entry"];
export type Difference = Schemas["Difference"];
export type Guard = Schemas["Guard"];

const KEY = "vigila.token";

export const token = {
  get: () => localStorage.getItem(KEY) ?? "",
  set: (t: string) => localStorage.setItem(KEY, t),
  clear: () => localStorage.removeItem(KEY),
};

/** The token in a sign-in link's fragment; "" without one. */
export function signInLink(): string {
  return /^#sign-in=(.+)$/.exec(location.hash)?.[1] ?? "";
}

/** Takes the fragment out of the address, once its token was looked at: a reload before that loses nothing. */
export function dropSignInLink() {
  if (signInLink()) history.replaceState(null, "", location.pathname + location.search);
}

/** Keeps a token that the service takes; throws for another, and keeps what there was. */
export async function signIn(t: string) {
  if (!/^[\x21-\x7e]+$/.test(t)) throw new Problem(401, "", "This is no token.", []);
  await got(api.GET("/me", { headers: { Authorization: `Bearer ${t}` } }));
  token.set(t);
}

/** A problem document of the service, as an error. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    detail: string,
    readonly guards: Guard[],
  ) {
    super(detail || title);
  }
}

const sign: Middleware = {
  onRequest({ request }) {
    if (!request.headers.has("Authorization")) request.headers.set("Authorization", `Bearer ${token.get()}`);
    return request;
  },
};

export const api = createClient<paths>({ baseUrl: "/api/v1" });
api.use(sign);

/** Gives the data of an answer, or throws what went wrong in the service's own words. */
export async function got<T>(
  call: Promise<{ data?: T; error?: Schemas["Problem"]; response: Response }>,
): Promise<T> {
  let answer;
  try {
    answer = await call;
  } catch {
    throw new Problem(0, "The service does not answer", "The service does not answer.", []);
  }
  if (!answer.response.ok) {
    const p = answer.error;
    throw new Problem(
      answer.response.status,
      p?.title ?? "",
      p?.detail ?? answer.response.statusText,
      p?.guards ?? [],
    );
  }
  return answer.data as T;
}

export type Note = { kind: string; name: string };

// A browser has six connections to a service, over all its tabs and the pages that it keeps for going back: a page that
// nobody looks at lets its stream go, or the seventh would wait for ever.
const UNSEEN = 30_000;

/** Follows the event stream while the page is looked at; tells of each note, and whether the connection stands. */
export function follow(note: (n: Note) => void, connected: (yes: boolean) => void): () => void {
  const end = new AbortController();
  let gone = false; // kept by the browser for going back
  let unseen: ReturnType<typeof setTimeout> | undefined;
  let letGo = () => {};
  const wake = new EventTarget();
  const away = () => gone || (document.visibilityState === "hidden" && unseen === undefined);
  const looked = () => {
    clearTimeout(unseen);
    unseen = undefined;
    if (document.visibilityState === "hidden") {
      unseen = setTimeout(() => {
        unseen = undefined;
        letGo();
      }, UNSEEN);
    }
    wake.dispatchEvent(new Event("wake"));
  };
  const hides = () => {
    gone = true;
    letGo();
  };
  const shows = () => {
    gone = false;
    looked();
  };
  document.addEventListener("visibilitychange", looked, { signal: end.signal });
  addEventListener("pagehide", hides, { signal: end.signal });
  addEventListener("pageshow", shows, { signal: end.signal });
  looked();
  const run = async () => {
    while (!end.signal.aborted) {
      while (away() && !end.signal.aborted) {
        await new Promise((next) => wake.addEventListener("wake", next, { once: true }));
      }
      const silence = new AbortController();
      letGo = () => silence.abort();
      let timer = setTimeout(() => silence.abort(), 15_000);
      try {
        const r = await fetch("/api/v1/events", {
          headers: { Authorization: `Bearer ${token.get()}` },
          signal: AbortSignal.any([end.signal, silence.signal]),
        });
        if (!r.ok || !r.body) throw new Error(r.statusText);
        connected(true);
        note({ kind: "connected", name: "" });
        const parser = createParser({
          onEvent: (e) => note({ kind: e.event ?? "", name: (JSON.parse(e.data) as { name: string }).name }),
        });
        const reader = r.body.pipeThrough(new TextDecoderStream()).getReader();
        for (;;) {
          const { done, value } = await reader.read();
          if (done) break;
          clearTimeout(timer);
          timer = setTimeout(() => silence.abort(), 15_000);
          parser.feed(value);
        }
      } catch {
        // told below, and tried again
      }
      clearTimeout(timer);
      if (end.signal.aborted) return;
      if (away()) continue; // nobody has lost anything
      connected(false);
      await new Promise((next) => setTimeout(next, 1000));
    }
  };
  void run();
  return () => {
    end.abort();
    clearTimeout(unseen);
    letGo();
    wake.dispatchEvent(new Event("wake"));
  };
}
