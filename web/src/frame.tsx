import { DropdownMenu } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import { NavLink, Outlet, useLocation } from "react-router";
import * as api from "./api";
import { Button, CopyButton } from "./design/controls";
import { useAct, useStatus } from "./queries";
import { screens } from "./router";
import { SignIn } from "./screens/sign-in";
import { useTheme, type Theme } from "./theme";
import { ago } from "./words";

/** What stands around every screen: the base URL and the state of the gate stay in sight, since they are what people look for. */
export function Frame() {
  const status = useStatus();
  const [theme, setTheme] = useTheme();
  const error = useLastError(status.error, status.isSuccess);
  if (error?.status === 401 || error?.status === 403) return <SignIn />;
  if (!status.data) return error ? <Unreachable message={error.message} /> : <p className="sr-only">Asking the gate…</p>;
  return (
    <div className="min-h-screen">
      <a href="#main" className="sr-only focus:not-sr-only focus:absolute focus:z-30 focus:bg-paper focus:p-2" onClick={(e) => (e.preventDefault(), document.querySelector("main")?.focus())}>
        Skip to the screen
      </a>
      <header className="z-20 border-b border-rule bg-paper sm:sticky sm:top-0">
        <div className="mx-auto flex max-w-6xl flex-wrap items-center gap-x-6 gap-y-3 px-5 pt-4 pb-3">
          <p className="font-serif text-title leading-none">
            Kindred <em>Gate</em>
          </p>
          <Address base={status.data.base_url} />
          <State status={status.data} reachable={!error} />
          <Menu theme={theme} setTheme={setTheme} />
        </div>
        <nav aria-label="Screens" className="mx-auto flex max-w-6xl gap-6 overflow-x-auto px-5">
          {screens.map((s) => (
            <NavLink
              key={s.path}
              to={`/${s.path}`}
              className={({ isActive }) =>
                `border-b-2 pt-1 pb-2.5 font-medium whitespace-nowrap hover:text-ink ${isActive ? "border-vermilion text-ink" : "border-transparent text-faded"}`
              }
            >
              {s.title}
            </NavLink>
          ))}
        </nav>
      </header>
      <Screen />
    </div>
  );
}

/** The last error. One is forgotten while it is asked again, which must not take away what somebody has written into the sign-in meanwhile. */
function useLastError(error: Error | null, fine: boolean): api.GateError | null {
  const [last, setLast] = useState<Error | null>(null);
  if (error && error !== last) setLast(error);
  if (fine && !error && last) setLast(null);
  return last as api.GateError | null;
}

/** The screen, to which the title and the focus go when it changes. */
function Screen() {
  const { pathname } = useLocation();
  const main = useRef<HTMLElement>(null);
  const before = useRef("");
  const path = pathname.split("/")[1] ?? "";
  const title = screens.find((s) => s.path === path)?.title ?? "";
  useEffect(() => {
    document.title = `${title} · Kindred Gate`;
    if (before.current !== "" && before.current !== path) {
      window.scrollTo(0, 0);
      main.current?.focus({ preventScroll: true });
    }
    before.current = path;
  }, [path, title]);
  return (
    <main ref={main} id="main" tabIndex={-1} className="mx-auto max-w-6xl px-5 py-8 outline-none">
      <Outlet />
    </main>
  );
}

function Address({ base }: { base: string }) {
  return (
    <div className="flex min-w-0 items-center gap-3 border-l border-rule pl-6 max-sm:w-full max-sm:border-0 max-sm:pl-0">
      <span className="text-small text-faded max-md:hidden">Base URL</span>
      <code className="tabular truncate text-base" data-testid="base-url">
        {base}
      </code>
      <CopyButton text={base} what="the base URL" />
    </div>
  );
}

function State({ status, reachable }: { status: api.Status; reachable: boolean }) {
  return (
    <p className="ml-auto flex items-center gap-2 text-small max-sm:ml-0" role="status">
      <span aria-hidden className={`size-2 rounded-full ${reachable ? "bg-moss" : "bg-vermilion"}`} />
      {reachable ? (
        <span>
          Up <span className="text-faded">· started {ago(status.started)}</span>
          {status.access === "open" && <span className="text-brass"> · open to every program here</span>}
        </span>
      ) : (
        <span className="text-vermilion">Not answering</span>
      )}
    </p>
  );
}

function Menu({ theme, setTheme }: { theme: Theme; setTheme: (t: Theme) => void }) {
  const signOut = useAct(api.signOut, { changes: ["status"] });
  const item = "cursor-pointer px-3 py-1.5 text-small outline-none data-[highlighted]:bg-wash";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <Button weight="quiet" className="max-sm:ml-auto">
          Menu
        </Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" sideOffset={6} className="z-30 min-w-44 border border-rule-strong bg-leaf py-1">
          <DropdownMenu.Label className="px-3 pt-1 pb-0.5 text-small text-faded">Appearance</DropdownMenu.Label>
          <DropdownMenu.RadioGroup value={theme} onValueChange={(t) => setTheme(t as Theme)}>
            {(["system", "light", "dark"] as const).map((t) => (
              <DropdownMenu.RadioItem key={t} value={t} className={`${item} flex justify-between capitalize`}>
                {t}
                <DropdownMenu.ItemIndicator className="text-vermilion">chosen</DropdownMenu.ItemIndicator>
              </DropdownMenu.RadioItem>
            ))}
          </DropdownMenu.RadioGroup>
          <DropdownMenu.Separator className="my-1 border-t border-rule" />
          <DropdownMenu.Item className={item} onSelect={() => signOut.mutate(undefined)}>
            Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

function Unreachable({ message }: { message: string }) {
  return (
    <main className="mx-auto max-w-md px-5 pt-[20vh]">
      <p className="font-serif text-title">
        Kindred <em>Gate</em>
      </p>
      <p className="mt-2 text-faded" role="alert">
        {message} It is asked again every few seconds.
      </p>
    </main>
  );
}
