import {
  MutationCache,
  QueryCache,
  QueryClient,
  QueryClientProvider,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { StrictMode, Suspense, lazy, useEffect, useRef, useState } from "react";
import { createRoot } from "react-dom/client";
import {
  BrowserRouter,
  Link,
  Navigate,
  NavLink,
  Route,
  Routes,
  useLocation,
  useNavigate,
  useSearchParams,
} from "react-router";
import { AlertsPage } from "./alerts/page";
import { ClusterPage } from "./clusters/cluster";
import { ClustersPage } from "./clusters/page";
import { KitsPage } from "./kits/kits";
import { LanePage } from "./lanes/lane";
import { LanesPage } from "./lanes/page";
import { AuditPage } from "./people/audit";
import { DevicePage } from "./people/device";
import { PeoplePage } from "./people/people";
import { SignIn } from "./people/signin";
import { ProposalsPage } from "./proposals/page";
import { ProposalPage } from "./proposals/proposal";
import { RepositoriesPage } from "./repositories/page";
import { RostersPage } from "./rosters/page";
import { LogbookPage } from "./runs/logbook";
import { Problem, api, dropSignInLink, follow, got, said, signIn, signInLink, whoAmI } from "./shared/api";
import { May, Modal, Wrong } from "./shared/parts";
import { moment } from "./shared/words";
import { SetUp, inSetUp } from "./shared/setup";
import { FollowsPage } from "./versions/follows";
import { RulesPage } from "./rules/rules";
import { SecretsPage } from "./secrets/secrets";
import { StoresPage } from "./secrets/stores";
import { RegistriesPage } from "./versions/registries";
import { Board } from "./wards/board";
import { WardPage } from "./wards/ward";
import "./shared/style.css";

// Its form comes with a library of its own, which no other page needs.
const KitPage = lazy(() => import("./kits/kit").then((m) => ({ default: m.KitPage })));

let signOut = (_?: Error) => {};
const onError = (e: Error) => {
  if (e instanceof Problem && e.status === 401) signOut(e);
};
const queries = new QueryClient({
  queryCache: new QueryCache({ onError }),
  mutationCache: new MutationCache({ onError }),
  defaultOptions: { queries: { retry: false, staleTime: 5_000, refetchOnWindowFocus: false } },
});

type Light = "auto" | "day" | "night";

/** Day or night: as the system says, unless a person chose. */
function useLight(): [Light, (l: Light) => void] {
  const [light, set] = useState<Light>((localStorage.getItem("vigila.light") as Light | null) ?? "auto");
  useEffect(() => {
    const dark = matchMedia("(prefers-color-scheme: dark)");
    const apply = () => {
      document.documentElement.dataset.light = light === "auto" ? (dark.matches ? "night" : "day") : light;
    };
    apply();
    dark.addEventListener("change", apply);
    return () => dark.removeEventListener("change", apply);
  }, [light]);
  return [
    light,
    (l) => {
      localStorage.setItem("vigila.light", l);
      set(l);
    },
  ];
}

/** Reads again whatever the service says has changed. */
function useLive(): boolean {
  const client = useQueryClient();
  const [connected, set] = useState(true);
  useEffect(() => {
    let due: ReturnType<typeof setTimeout> | undefined;
    const changed = new Set<string>();
    const read = () => {
      due = undefined;
      void client.invalidateQueries({
        predicate: (q) => {
          const [kind, name] = q.queryKey as [string, string?];
          return changed.has("all") || changed.has(kind) || (kind === "ward" && changed.has(`ward ${name}`));
        },
      });
      changed.clear();
    };
    return follow((n) => {
      if (n.kind === "connected") changed.add("all");
      if (n.kind === "ward") ["wards", "entries", `ward ${n.name}`].forEach((k) => changed.add(k));
      if (n.kind === "roster") ["rosters", "kits", "made", "components"].forEach((k) => changed.add(k));
      if (n.kind === "ward") changed.add("rosters");
      if (n.kind === "repo") changed.add("repos");
      if (n.kind === "proposal") ["proposals", "made"].forEach((k) => changed.add(k));
      if (n.kind === "lane") changed.add("lanes");
      if (n.kind === "follow") changed.add("follows");
      if (n.kind === "store" || n.kind === "ward")
        ["stores", "secrets", "rules"].forEach((k) => changed.add(k));
      if (n.kind === "alert") changed.add("alerts");
      if (n.kind === "cluster") changed.add("clusters");
      due ??= setTimeout(read, 150); // a run tells of many changes at once
    }, set);
  }, [client]);
  return connected;
}

const keys: [string, string][] = [
  ["/", "search"],
  ["↓ ↑", "move along the board"],
  ["Enter", "open the chosen ward"],
  ["g w", "watch"],
  ["g n", "lanes"],
  ["g p", "proposals"],
  ["g l", "logbook"],
  [
    "g s",
    "set up: rosters, repositories, clusters, versions, registries, secrets, stores, rules, alerts, kits, people, what was done",
  ],
  ["Esc", "leave the search, close a dialog"],
  ["?", "this list"],
];

function Frame() {
  const connected = useLive();
  const [light, setLight] = useLight();
  const [help, setHelp] = useState(false);
  const [params, setParams] = useSearchParams();
  const search = useRef<HTMLInputElement>(null);
  const [text, setText] = useState(params.get("search") ?? "");
  const go = useNavigate();
  const { pathname } = useLocation();
  const me = useQuery({ queryKey: ["me"], queryFn: whoAmI });

  const asked = params.get("search") ?? "";
  useEffect(() => {
    if (document.activeElement !== search.current) setText(asked); // a link asked for something else
  }, [asked]);

  useEffect(() => {
    let last = "";
    const down = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLInputElement || e.target instanceof HTMLTextAreaElement;
      if (e.key === "Escape" && typing) (e.target as HTMLElement).blur();
      if (typing || e.ctrlKey || e.metaKey || e.altKey) return;
      if (e.key === "/") {
        e.preventDefault();
        search.current?.focus();
      }
      if (e.key === "?") setHelp(true);
      if (last === "g" && e.key === "w") void go("/");
      if (last === "g" && e.key === "n") void go("/lanes");
      if (last === "g" && e.key === "p") void go("/proposals");
      if (last === "g" && e.key === "l") void go("/logbook");
      if (last === "g" && e.key === "s") void go("/rosters");
      last = e.key;
    };
    addEventListener("keydown", down);
    return () => removeEventListener("keydown", down);
  }, [go]);

  const tab = ({ isActive }: { isActive: boolean }) =>
    `-mb-px border-b-2 py-4 whitespace-nowrap ${isActive ? "border-ink font-bold" : "border-transparent text-soft hover:text-ink"}`;
  const role = me.data?.role ?? "reader";
  const member = role === "member";
  const kits = useQuery({
    queryKey: ["kits", "any"],
    queryFn: () => got(api.GET("/kits", { params: { query: { limit: 1 } } })),
    enabled: member,
  });
  return (
    <May value={{ role }}>
      <header className="border-b border-rule">
        <div className="mx-auto flex max-w-[90rem] items-center gap-x-5 px-7">
          <Link to="/" className="mr-1 flex items-center gap-2 text-lg font-bold">
            <span aria-hidden className="size-2.5 rounded-full bg-drifted ring-4 ring-drifted/25" />
            Vigila
          </Link>
          <nav aria-label="Main" className="flex shrink-0 gap-4">
            <NavLink to="/" end className={tab}>
              Watch
            </NavLink>
            <NavLink to="/lanes" className={tab}>
              Lanes
            </NavLink>
            {!member && (
              <NavLink to="/proposals" className={tab}>
                Proposals
              </NavLink>
            )}
            <NavLink to="/logbook" className={tab}>
              Logbook
            </NavLink>
            {member && !!kits.data?.total && (
              <NavLink to="/kits" className={tab}>
                Kits
              </NavLink>
            )}
            {!member && (
              <Link to="/rosters" className={tab({ isActive: inSetUp(pathname) })}>
                Set up
              </Link>
            )}
          </nav>
          <form
            role="search"
            className="relative ml-auto w-64 min-w-0"
            onSubmit={(e) => {
              e.preventDefault();
              search.current?.blur();
            }}
          >
            <input
              ref={search}
              type="search"
              aria-label="Find a ward, object or revision"
              placeholder="Find a ward, object or revision"
              className="w-full rounded-md border border-rule bg-sheet py-1.5 pr-8 pl-2.5 text-sm placeholder:text-soft"
              value={text}
              onChange={(e) => {
                const text = e.target.value;
                setText(text);
                if (!["/", "/logbook", "/proposals"].includes(location.pathname)) {
                  void go(`/?search=${encodeURIComponent(text)}`);
                } else {
                  setParams(text ? { search: text } : {}, { replace: true });
                }
              }}
            />
            <kbd
              aria-hidden
              className="absolute top-1.5 right-2 rounded border border-rule px-1.5 font-mono text-xs text-soft"
            >
              /
            </kbd>
          </form>
          {me.data && (role === "reader" || member) && (
            <span
              title={
                member
                  ? `You see what ${me.data.teams ? `your teams (${me.data.teams.join(", ")}) see` : "your token sees"}, and nothing else.`
                  : "You are a reader, who sees everything and changes nothing."
              }
              className="rounded border border-rule px-1.5 text-sm text-soft"
            >
              {me.data.teams?.join(", ") ?? role}
            </span>
          )}
          <button
            onClick={() => setLight(light === "auto" ? "day" : light === "day" ? "night" : "auto")}
            title="Day, night, or as the system says"
            aria-label={`Light: ${light}. Change it`}
            className="w-12 text-sm text-soft hover:text-ink"
          >
            {light}
          </button>
          <button
            onClick={() => setHelp(true)}
            title="Keys, and who is signed in"
            aria-label="Keys"
            className="text-sm text-soft hover:text-ink"
          >
            ?
          </button>
        </div>
      </header>
      {!connected && (
        <p role="status" className="border-b border-rule bg-lamp-sheet px-7 py-2 text-center text-sm">
          <strong>The connection to the service is lost.</strong> What is shown is the last known; trying
          again.
        </p>
      )}
      <main className="mx-auto max-w-[90rem] px-7 py-6">
        <Routes>
          <Route path="/" element={<Board />} />
          <Route path="/wards/:id" element={<WardPage />} />
          <Route path="/lanes" element={<LanesPage />} />
          <Route path="/lanes/:name" element={<LanePage />} />
          <Route path="/proposals" element={<ProposalsPage />} />
          <Route path="/proposals/:number" element={<ProposalPage />} />
          <Route path="/logbook" element={<LogbookPage />} />
          <Route path="/device" element={<DevicePage />} />
          <Route path="/clusters/:name" element={<ClusterPage />} />
          <Route
            path="/kits/:name"
            element={
              <Suspense fallback={<p className="text-soft">Reading the kit…</p>}>
                <KitPage />
              </Suspense>
            }
          />
          <Route element={<SetUp />}>
            <Route path="/rosters" element={<RostersPage />} />
            <Route path="/repositories" element={<RepositoriesPage />} />
            <Route path="/sources" element={<Navigate to="/repositories" replace />} />
            <Route path="/clusters" element={<ClustersPage />} />
            <Route path="/versions" element={<FollowsPage />} />
            <Route path="/registries" element={<RegistriesPage />} />
            <Route path="/secrets" element={<SecretsPage />} />
            <Route path="/rules" element={<RulesPage />} />
            <Route path="/alerts" element={<AlertsPage />} />
            <Route path="/kits" element={<KitsPage />} />
            <Route path="/people" element={<PeoplePage />} />
            <Route path="/audit" element={<AuditPage />} />
            <Route path="/stores" element={<StoresPage />} />
          </Route>
          <Route
            path="*"
            element={
              <p>
                There is no such page.{" "}
                <Link to="/" className="underline">
                  To the watch
                </Link>
              </p>
            }
          />
        </Routes>
      </main>
      <Modal open={help} close={() => setHelp(false)} title="Keys">
        <dl className="grid grid-cols-[6rem_1fr] gap-y-1.5">
          {keys.map(([k, what]) => (
            <div key={k} className="contents">
              <dt className="font-mono">{k}</dt>
              <dd>{what}</dd>
            </div>
          ))}
        </dl>
        <p className="mt-5 border-t border-rule pt-4 text-sm text-soft">
          {me.data &&
            `Signed in as ${me.data.name} (${me.data.role})${me.data.expires ? ` until ${moment(me.data.expires)}` : ""}. Vigila ${me.data.version}. `}
          <Link to="/people" className="underline hover:text-ink" onClick={() => setHelp(false)}>
            Where you are signed in
          </Link>{" "}
          <button
            className="underline hover:text-ink"
            onClick={() =>
              got(api.DELETE("/session")).then(
                () => signOut(),
                (e: Error) => signOut(e),
              )
            }
          >
            Sign out
          </button>
        </p>
      </Modal>
    </May>
  );
}

function App({ signedIn: before, refused }: { signedIn: boolean; refused?: Error }) {
  const [wrong, setWrong] = useState(refused);
  const [signedIn, set] = useState(before);
  signOut = (why) => {
    setWrong(why); // a session that has ended says so
    queries.clear();
    set(false);
  };
  if (!signedIn) {
    return (
      <SignIn
        wrong={wrong}
        done={() =>
          void whoAmI().then(
            () => {
              setWrong(undefined);
              set(true);
            },
            (e: Error) => setWrong(e),
          )
        }
      />
    );
  }
  return (
    <>
      {wrong && (
        <div className="mx-auto max-w-[90rem] px-7">
          <Wrong error={new Error(`That was not taken, and you are signed in as before: ${wrong.message}`)} />
        </div>
      )}
      <Frame />
    </>
  );
}

addEventListener("hashchange", () => {
  if (location.hash.startsWith("#sign-in=")) location.reload(); // a link was pasted into the page that is open
});

// A link whose token is not taken replaces nothing. A token that a console of before kept opens a session, and is kept no more.
const kept = localStorage.getItem("vigila.token") ?? "";
localStorage.removeItem("vigila.token");
const why = said();
const link = signInLink() || kept;
const refused = link
  ? await signIn(link).then(
      () => undefined,
      (e: Error) => e,
    )
  : why
    ? new Error(why)
    : undefined;
dropSignInLink();
const signedIn = await whoAmI().then(
  () => true,
  (e: Error) => !(e instanceof Problem && e.status === 401),
);

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <Tooltip.Provider delayDuration={300}>
        <BrowserRouter>
          <App signedIn={signedIn} refused={refused} />
        </BrowserRouter>
      </Tooltip.Provider>
    </QueryClientProvider>
  </StrictMode>,
);
