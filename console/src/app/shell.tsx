import { Menu, MenuButton, MenuItem, MenuItems, Portal } from "@headlessui/react";
import { useQuery } from "@tanstack/react-query";
import { Link, Outlet, useLocation, useNavigate, useSearch } from "@tanstack/react-router";
import { type RefObject, useEffect, useRef, useState, useSyncExternalStore } from "react";
import { api, queryClient, reading, useMember, useServices } from "../api/client";
import { useBehind } from "../api/behind";
import { Choice, type Option } from "../ui/choice";
import { againstInWords, clock, windowInWords } from "../ui/format";
import { Modal } from "../ui/dialog";
import { keysAreOn, switchKeys, useHotkeys } from "../ui/hotkeys";
import { prefer, usePreferences } from "../ui/preferences";
import { Key } from "../ui/states";
import { FindBox } from "./find";
import { LiveProvider, useLive } from "../api/live";
import { Button, Select } from "../ui/kit";
import { useBrowserNotices } from "../features/notices/browser";

// eslint-disable-next-line @typescript-eslint/no-deprecated -- what is to take its place is not exported yet
const PortalGroup = Portal.Group;

/** Has pages be as whoever is signed in wants them, once the service has said how. */
function usePreferred() {
  const saved = useQuery({ ...reading("/api/v1/session/preferences"), staleTime: 60_000 }).data;
  useEffect(() => {
    if (saved) prefer(saved);
  }, [saved]);
  // Times are written anew where the zone changes.
  return usePreferences().times;
}

/** Says where one is after each change of page: in the tab, to screen readers, and by the place of the focus. */
function useArrivals(main: RefObject<HTMLElement | null>) {
  const { pathname } = useLocation();
  const first = useRef(pathname);
  const [said, setSaid] = useState("");
  useEffect(() => {
    if (first.current !== pathname) {
      first.current = "";
      main.current?.focus({ preventScroll: true });
    }
    const name = () => {
      const heading = main.current?.querySelector("h1")?.textContent.trim();
      document.title = heading ? `${heading.slice(0, 80)} · Outcrop` : "Outcrop";
      if (heading && first.current === "") setSaid(heading);
    };
    name();
    const observer = new MutationObserver(name);
    if (main.current) observer.observe(main.current, { childList: true, subtree: true, characterData: true });
    return () => observer.disconnect();
  }, [pathname, main]);
  return said;
}

export function Shell() {
  const times = usePreferred();
  const main = useRef<HTMLElement>(null);
  const said = useArrivals(main);
  const behind = useBehind();
  const isWall = useLocation({
    select: ({ pathname, search }) => search.view === "wall" && /^\/(now|sheets|sheet-of)(\/|$)/.test(pathname),
  });
  useBrowserNotices();
  return (
    <LiveProvider>
      <a href="#main" className="focus:bg-sheet sr-only focus:not-sr-only focus:absolute focus:z-30 focus:p-2">
        To the content
      </a>
      {!isWall && <Bar />}
      <p className="sr-only" aria-live="polite">
        {said}
      </p>
      {behind && (
        <p role="status" className="bg-wash text-ink px-5 py-1 text-center text-sm">
          {behind}
        </p>
      )}
      <main
        ref={main}
        id="main"
        tabIndex={-1}
        className={`mx-auto px-5 py-4 focus:outline-none ${isWall ? "" : "max-w-[1280px]"}`}
      >
        <div key={times}>
          <Outlet />
        </div>
      </main>
    </LiveProvider>
  );
}

const WINDOWS = ["30m", "3h", "24h", "7d", "30d"];
/** Periods to hold the window against. */
const AGAINST = ["", "before", "1d", "7d"].map((value) => ({ value, label: againstInWords(value) }));

function Bar() {
  const scope = useSearch({ from: "/inside" });
  const navigate = useNavigate();
  const services = useServices();
  const items = services.data?.items ?? [];
  // What opens lies within the header for screen readers too, not beside everything.
  const opened = useRef<HTMLDivElement>(null);
  // The same name may stand in several namespaces: the scope is of all of them.
  const names = [...new Set(items.map((item) => item.service))];
  const environments = [...new Set(items.flatMap((item) => item.environments))].sort();
  const set = (change: Record<string, string | undefined>) =>
    void navigate({ to: ".", search: (now: Record<string, unknown>) => ({ ...now, cursor: undefined, ...change }) });
  const windows = WINDOWS.map((since) => ({ value: since, label: windowInWords({ since }) }));
  if (scope.from) windows.unshift({ value: "chosen", label: windowInWords(scope) });
  const carried = {
    service: scope.service,
    environment: scope.environment,
    since: scope.since,
    from: scope.from,
    to: scope.to,
    against: scope.against,
  };
  const periods = scope.against?.includes("/")
    ? [{ value: scope.against, label: againstInWords(scope.against) }, ...AGAINST]
    : AGAINST;
  const choices: ScopeChoice[] = [
    {
      name: "Service",
      value: scope.service ?? "",
      options: [
        { value: "", label: `all ${names.length} services` },
        ...names.map((name) => ({ value: name, label: name })),
      ],
      onChange: (service) => set({ service: service || undefined }),
    },
    {
      name: "Environment",
      value: scope.environment ?? "",
      options: [
        { value: "", label: "all environments" },
        ...environments.map((name) => ({ value: name, label: name })),
      ],
      onChange: (environment) => set({ environment: environment || undefined }),
    },
    {
      name: "Window",
      value: scope.from ? "chosen" : (scope.since ?? "24h"),
      options: windows,
      onChange: (since) => since !== "chosen" && set({ since, from: undefined, to: undefined }),
    },
    {
      name: "Against",
      value: scope.against ?? "",
      options: periods,
      onChange: (against) => set({ against: against || undefined }),
    },
  ];
  return (
    <header className="border-line bg-sheet border-b print:hidden">
      <div ref={opened} />
      <PortalGroup target={opened}>
        <div className="mx-auto flex max-w-[1280px] flex-wrap items-center gap-x-3 gap-y-2 px-5 py-1.5 max-md:gap-x-2 max-md:px-3">
          <Link
            to="/errors"
            search={carried}
            className="text-ink flex items-center gap-2 font-mono text-base font-bold hover:no-underline"
          >
            <img src="/mark.svg" alt="" width="20" height="18" /> <span className="max-md:sr-only">outcrop</span>
          </Link>
          <nav aria-label="Pages" className="flex gap-1 max-md:gap-0">
            <Page to="/now" name="Now" search={carried} />
            <Page to="/errors" name="Errors" search={carried} />
            <Page to="/deploys" name="Deploys" search={carried} />
            <Page to="/traffic" name="Traffic" search={carried} />
            <Page to="/ask" name="Ask" search={carried} />
            <Page to="/notices" name="Notices" search={carried} />
          </nav>
          <FindBox />
          <div className="ml-auto flex items-center gap-2 max-md:gap-1">
            <div
              className="border-line bg-paper hidden rounded-sm border text-[13px] md:flex"
              role="group"
              aria-label="Scope"
            >
              {choices.map(({ name, value, options, onChange }) => (
                <Choice key={name} name={name} value={value} options={options} onChange={onChange} />
              ))}
            </div>
            <ScopeSheet choices={choices} />
            <Hold />
            <Person />
          </div>
        </div>
      </PortalGroup>
      <Stale />
      <Keys />
    </header>
  );
}

type ScopeChoice = { name: string; value: string; options: Option[]; onChange: (value: string) => void };

/** On a phone the scope lies behind one button, which says what is chosen. */
function ScopeSheet({ choices }: { choices: ScopeChoice[] }) {
  const [isOpen, setOpen] = useState(false);
  const said = choices
    .filter(({ name, value }) => name === "Window" || value !== "")
    .map(({ value, options }) => options.find((option) => option.value === value)?.label ?? value);
  return (
    <>
      <Button
        className="max-w-32 truncate md:hidden"
        aria-label={`Scope: ${said.join(", ")}`}
        onClick={() => setOpen(true)}
      >
        {said.join(", ")}
      </Button>
      <Modal title="Scope" isOpen={isOpen} onClose={() => setOpen(false)}>
        <div className="w-[80vw] max-w-80 space-y-3">
          {choices.map(({ name, value, options, onChange }) => (
            <label key={name} className="block">
              <span className="font-semibold">{name}</span>
              <Select
                value={value}
                options={options.map((option) => [option.value, option.label] as const)}
                onChange={onChange}
                className="mt-1 block w-full"
              />
            </label>
          ))}
          <Button look="main" onClick={() => setOpen(false)}>
            Show
          </Button>
        </div>
      </Modal>
    </>
  );
}

function Page({
  to,
  name,
  search,
}: {
  to: "/now" | "/errors" | "/deploys" | "/traffic" | "/ask" | "/notices";
  name: string;
  search: Record<string, string | undefined>;
}) {
  return (
    <Link
      to={to}
      search={search}
      className="text-ink border-b-2 border-transparent px-1.5 py-1.5 hover:no-underline max-md:px-1"
      activeProps={{ className: "border-b-accent! font-semibold" }}
    >
      {name}
    </Link>
  );
}

function Hold() {
  const { held, waiting, toggle } = useLive();
  const label = held ? `Go on${waiting > 0 ? `: ${waiting} waiting` : ""}` : "Hold";
  return (
    <Button
      aria-pressed={held}
      onClick={toggle}
      title={held ? "Show what came in" : "Stop the page from following new data"}
    >
      <span aria-hidden="true">{held ? "▶ " : "❚❚ "}</span>
      <span className={held && waiting > 0 ? "" : "max-md:sr-only"}>{label}</span>
    </Button>
  );
}

/** Since when something shown could not be read again, in milliseconds since 1970; `null` where all was. */
function useUnread(): number | null {
  const cache = queryClient.getQueryCache();
  return useSyncExternalStore(
    (changed) => cache.subscribe(changed),
    () => {
      const failed = cache
        .getAll()
        .filter((query) => query.isActive() && query.state.status === "error" && query.state.data !== undefined);
      return failed.length === 0 ? null : Math.min(...failed.map((query) => query.state.dataUpdatedAt));
    },
  );
}

function Stale() {
  const { staleSince } = useLive();
  const unread = useUnread();
  const since = staleSince ?? (unread === null ? null : new Date(unread));
  if (!since) return null;
  return (
    <div role="status" className="bg-wash text-ochre flex justify-center gap-3 px-5 py-1">
      <p>
        {staleSince ? "Not connected" : "Not refreshed"} since {clock(since)}: what is shown may be out of date.
      </p>
      <button type="button" onClick={() => void queryClient.refetchQueries({ type: "active" })} className="underline">
        Try now
      </button>
    </div>
  );
}

function Person() {
  const member = useMember();
  const signOut = async () => {
    await api.DELETE("/api/v1/session");
    queryClient.clear();
    window.location.assign("/sign-in");
  };
  return (
    <Menu>
      <MenuButton
        className="text-faint hover:bg-wash rounded-sm px-1.5 py-1"
        aria-label={`Signed in as ${member.data?.email ?? "…"}`}
      >
        {(member.data?.email ?? "…").split("@")[0]} <span aria-hidden="true">▾</span>
      </MenuButton>
      <MenuItems
        anchor="bottom end"
        modal={false}
        className="border-line bg-sheet z-20 rounded-sm border py-1 text-[14px] focus:outline-none"
      >
        <MenuItem>
          <Link to="/account" className="text-ink data-focus:bg-wash block px-3 py-1 hover:no-underline">
            Account
          </Link>
        </MenuItem>
        <MenuItem>
          <Link to="/people" className="text-ink data-focus:bg-wash block px-3 py-1 hover:no-underline">
            People and teams
          </Link>
        </MenuItem>
        <MenuItem>
          <Link to="/owners" className="text-ink data-focus:bg-wash block px-3 py-1 hover:no-underline">
            Owners
          </Link>
        </MenuItem>
        <MenuItem>
          <Link to="/sheets" className="text-ink data-focus:bg-wash block px-3 py-1 hover:no-underline">
            Sheets
          </Link>
        </MenuItem>
        <MenuItem>
          <Link to="/close-ups" className="text-ink data-focus:bg-wash block px-3 py-1 hover:no-underline">
            Close-ups
          </Link>
        </MenuItem>
        <MenuItem>
          <Link to="/connect" className="text-ink data-focus:bg-wash block px-3 py-1 hover:no-underline">
            Connect a service
          </Link>
        </MenuItem>
        <MenuItem>
          <Link to="/senders" className="text-ink data-focus:bg-wash block px-3 py-1 hover:no-underline">
            Sender keys, refused, dropped
          </Link>
        </MenuItem>
        <MenuItem>
          <Link to="/services" className="text-ink data-focus:bg-wash block px-3 py-1 hover:no-underline">
            Service settings
          </Link>
        </MenuItem>
        <MenuItem>
          <Link to="/grouping" className="text-ink data-focus:bg-wash block px-3 py-1 hover:no-underline">
            Grouping rules
          </Link>
        </MenuItem>
        <MenuItem>
          <Link to="/clean-up" className="text-ink data-focus:bg-wash block px-3 py-1 hover:no-underline">
            Clean up
          </Link>
        </MenuItem>
        {member.data?.role === "admin" && (
          <MenuItem>
            <Link to="/installation" className="text-ink data-focus:bg-wash block px-3 py-1 hover:no-underline">
              This installation
            </Link>
          </MenuItem>
        )}
        <MenuItem>
          <a href="/docs" className="text-ink data-focus:bg-wash block px-3 py-1 hover:no-underline">
            Docs
          </a>
        </MenuItem>
        <MenuItem>
          <button
            type="button"
            onClick={() => void signOut()}
            className="data-focus:bg-wash block w-full px-3 py-1 text-left"
          >
            Sign out
          </button>
        </MenuItem>
      </MenuItems>
    </Menu>
  );
}

const KEYS: [string, string][] = [
  ["/", "filter the list"],
  ["g", "find anything"],
  ["j", "next row"],
  ["k", "previous row"],
  ["x", "choose the row, to act on several"],
  ["Enter", "open the row"],
  ["[", "older occurrence"],
  ["]", "newer occurrence"],
  ["m", "take the error, or hand it back"],
  ["t", "from an occurrence to its trace"],
  ["l", "from an occurrence or a trace to its log lines"],
  ["n", "next failure in a trace; of log lines, the newest"],
  ["p", "previous failure in a trace"],
  ["o", "from a failed span to its error"],
  ["w", "on Now and on a sheet: for a screen on the wall, and back"],
  ["b", "back"],
  ["h", "hold, or go on"],
  ["?", "these keys"],
];

function Keys() {
  const [open, setOpen] = useState(false);
  const [on, setOn] = useState(keysAreOn);
  const { toggle } = useLive();
  useHotkeys({ "?": () => setOpen(true), h: toggle, b: () => window.history.back() });
  return (
    <Modal title="Keys" isOpen={open} onClose={() => setOpen(false)}>
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1.5">
        {KEYS.map(([key, what]) => (
          <div key={key} className="contents">
            <dt>
              <Key>{key}</Key>
            </dt>
            <dd>{what}</dd>
          </div>
        ))}
      </dl>
      <label className="mt-4 flex items-center gap-2">
        <input
          type="checkbox"
          checked={on}
          onChange={(event) => {
            switchKeys(event.target.checked);
            setOn(event.target.checked);
          }}
        />
        Use single-key shortcuts in this browser
      </label>
      <Button onClick={() => setOpen(false)} className="mt-4">
        Close
      </Button>
    </Modal>
  );
}
