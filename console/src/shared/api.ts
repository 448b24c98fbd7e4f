// Calls to the service, typed by api/openapi.yaml. A session's cookie signs them in, which no script can read.
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

// What calls that change something send beside the session's cookie; a page of another origin can't read it.
let csrf = "";

/** Who is signed in. Throws where nobody is. */
export async function whoAmI() {
  const me = await got(api.GET("/me"));
  csrf = me.csrf ?? "";
  return me;
}

/** The token in a sign-in link's fragment; "" without one. */
export function signInLink(): string {
  return /^#sign-in=(.+)$/.exec(location.hash)?.[1] ?? "";
}

/** Takes the fragment out of the address, once its token was looked at: a reload before that loses nothing. */
export function dropSignInLink() {
  if (signInLink()) history.replaceState(null, "", location.pathname + location.search);
}

/** Opens a session for a token that the service takes; throws for another, and keeps what there was. The token itself is not kept. */
export async function signIn(t: string) {
  if (!/^[\x21-\x7e]+$/.test(t)) throw new Problem(401, "", "This is no token.", []);
  await got(api.POST("/session", { headers: { Authorization: `Bearer ${t}` } }));
}

/** Why nobody was signed in by a provider, once. */
export function said(): string {
  const name = `${location.protocol === "https:" ? "__Host-" : ""}vigila_said${location.port ? `_${location.port}` : ""}`;
  const text = document.cookie.split("; ").find((c) => c.startsWith(`${name}=`));
  if (!text) return "";
  document.cookie = `${name}=; Path=/; Max-Age=0${location.protocol === "https:" ? "; Secure" : ""}`;
  const bytes = atob(
    text
      .slice(name.length + 1)
      .replaceAll("-", "+")
      .replaceAll("_", "/"),
  );
  return new TextDecoder().decode(Uint8Array.from(bytes, (b) => b.charCodeAt(0)));
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
    if (request.method !== "GET") request.headers.set("X-CSRF-Token", csrf);
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
