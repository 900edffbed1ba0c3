import { DropdownMenu, Tabs } from "radix-ui";
import { useEffect, useState } from "react";
import * as api from "./api";
import { Button, CopyButton } from "./design/controls";
import { useLoad } from "./load";
import { KeysScreen } from "./screens/keys";
import { ModelsScreen } from "./screens/models";
import { PromptScreen } from "./screens/prompt";
import { SignIn } from "./screens/sign-in";
import { TrafficScreen } from "./screens/traffic";
import { TryScreen } from "./screens/try";
import { useTheme, type Theme } from "./theme";
import { ago } from "./words";

const screens = [
  { name: "models", title: "Models", Screen: ModelsScreen },
  { name: "try", title: "Try it", Screen: TryScreen },
  { name: "prompt", title: "Prompt", Screen: PromptScreen },
  { name: "keys", title: "Keys", Screen: KeysScreen },
  { name: "traffic", title: "Traffic", Screen: TrafficScreen },
] as const;

const fromHash = () => screens.find((s) => `#${s.name}` === window.location.hash)?.name ?? "models";

/** The screen that the address names. */
function useScreen(): [string, (name: string) => void] {
  const [screen, setScreen] = useState<string>(fromHash);
  useEffect(() => {
    const follow = () => {
      setScreen(fromHash());
      window.scrollTo(0, 0);
    };
    window.addEventListener("hashchange", follow);
    return () => window.removeEventListener("hashchange", follow);
  }, []);
  return [screen, (name) => (window.location.hash = name)];
}

export function App() {
  const [signedIn, setSignedIn] = useState(true); // until the gate says otherwise
  const status = useLoad(api.status, signedIn ? 5000 : undefined);
  const [theme, setTheme] = useTheme();
  const [screen, setScreen] = useScreen();
  const refused = status.error?.status === 401 || status.error?.status === 403;
  useEffect(() => setSignedIn(!refused), [refused]);

  if (refused) return <SignIn onSignedIn={status.reload} />;
  if (!status.data) return status.error ? <Unreachable message={status.error.message} /> : null;

  return (
    <Tabs.Root value={screen} onValueChange={setScreen} activationMode="manual" className="min-h-screen">
      <header className="z-20 border-b border-rule bg-paper sm:sticky sm:top-0">
        <div className="mx-auto flex max-w-6xl flex-wrap items-center gap-x-6 gap-y-3 px-5 pt-4 pb-3">
          <p className="font-serif text-title leading-none">
            Kindred <em>Gate</em>
          </p>
          <Address base={status.data.base_url} />
          <State status={status.data} reachable={!status.error} />
          <Menu theme={theme} setTheme={setTheme} onSignOut={() => void api.signOut().then(status.reload, status.reload)} />
        </div>
        <Tabs.List aria-label="Screens" className="mx-auto flex max-w-6xl gap-6 overflow-x-auto px-5">
          {screens.map((s) => (
            <Tabs.Trigger
              key={s.name}
              value={s.name}
              className="border-b-2 border-transparent pt-1 pb-2.5 font-medium whitespace-nowrap text-faded hover:text-ink data-[state=active]:border-vermilion data-[state=active]:text-ink"
            >
              {s.title}
            </Tabs.Trigger>
          ))}
        </Tabs.List>
      </header>
      <main className="mx-auto max-w-6xl px-5 py-8">
        {screens.map(({ name, Screen }) => (
          // Screens stay mounted, so that a question half written is still there after a look at another; the one that follows a feed does not.
          <Tabs.Content key={name} value={name} forceMount={name !== "traffic" || undefined} className="data-[state=inactive]:hidden">
            <Screen />
          </Tabs.Content>
        ))}
      </main>
    </Tabs.Root>
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
        <span>Not answering</span>
      )}
    </p>
  );
}

function Menu({ theme, setTheme, onSignOut }: { theme: Theme; setTheme: (t: Theme) => void; onSignOut: () => void }) {
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
          <DropdownMenu.Item className={item} onSelect={onSignOut}>
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
      <p className="mt-2 text-faded">{message}</p>
    </main>
  );
}
