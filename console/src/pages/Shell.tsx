import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { NavLink, Outlet } from "react-router";
import { api, ask, Refusal } from "../data/client";
import { useAct, useFreeze, useMay, useMe, useStaleSince } from "../data/queries";
import { Confirm } from "../ui/confirm";
import { Glyph } from "../ui/glyph";
import { Button, Loading, Trouble, When } from "../ui/parts";
import { SignIn } from "./SignIn";

export function Shell() {
  const me = useMe();
  if (me.isPending) return <Loading />;
  if (me.error instanceof Refusal && me.error.problem.status === 401) return <SignIn />;
  if (!me.data)
    return (
      <main className="mx-auto max-w-md p-8">
        <Trouble error={me.error} />
      </main>
    );
  return (
    <div className="mx-auto max-w-[1260px] px-5 pb-8">
      <a href="#page" className="sr-only focus:not-sr-only">
        Skip to the page
      </a>
      <TopBar name={me.data.name} />
      <Stale />
      <main id="page">
        <Outlet />
      </main>
      <Keys />
    </div>
  );
}

function TopBar({ name }: { name: string }) {
  const link = ({ isActive }: { isActive: boolean }) =>
    `py-2 ${isActive ? "border-ink border-b-2 font-medium" : "text-soft hover:text-ink"}`;
  const out = useAct(() => ask(api.POST("/sign-out")));
  return (
    <header className="mb-4 flex items-center gap-5 border-hair border-b">
      <NavLink to="/" className="flex items-center gap-2 py-2 font-semibold">
        <img src="/icon.svg" alt="" className="size-5" /> Twinning
      </NavLink>
      <nav aria-label="main" className="flex gap-4">
        <NavLink to="/" end className={link}>
          Lanes
        </NavLink>
        <NavLink to="/systems" className={link}>
          Systems
        </NavLink>
        <NavLink to="/tasks" className={link}>
          Tasks
        </NavLink>
      </nav>
      <div className="ml-auto flex items-center gap-3">
        <FreezeSwitch />
        <span className="text-soft">{name}</span>
        <Button onClick={() => out.mutate(undefined)}>Sign out</Button>
        {out.error && <Trouble error={out.error} />}
      </div>
    </header>
  );
}

function FreezeSwitch() {
  const freeze = useFreeze();
  const may = useMay();
  const set = useAct((on: boolean) => ask(api.PUT("/freeze", { body: { on, reason: on ? "from the console" : undefined } })));
  if (!freeze.data) return null;
  if (freeze.data.on)
    return (
      <span className="flex items-center gap-2 text-madder" role="status">
        <Glyph state="harm" /> All writing is frozen by {freeze.data.by}, <When at={freeze.data.at} />
        {may("overrule") && (
          <Confirm
            trigger={<Button>Let writing go on…</Button>}
            about={freeze.data}
            differs={(pinned, now) =>
              pinned.at === now.at && pinned.by === now.by ? [] : [`It was frozen again by ${now.by}: ${now.reason}`]
            }
            ask={(f) => ({
              title: "Let writing go on",
              act: "Let writing go on",
              tone: "harm",
              body: (
                <>
                  <p>
                    {f.by} froze all writing: {f.reason}.
                  </p>
                  <p>Runs that were halted stay halted; sealed plans can be run again, in every lane.</p>
                </>
              ),
            })}
            busy={set.isPending}
            error={set.error}
            confirm={() => set.mutateAsync(false)}
          />
        )}
      </span>
    );
  return (
    <>
      {set.error && <Trouble error={set.error} />}
      <Button
        tone="harm"
        disabled={!may("work") || set.isPending}
        onClick={() => set.mutate(true)}
        title="Stops every run everywhere after the change it is at"
      >
        Freeze all writing
      </Button>
    </>
  );
}

/** Says when what is shown could not be read again: it stays, and so does what is typed. */
function Stale() {
  const since = useStaleSince();
  if (since === undefined) return null;
  return (
    <p role="status" className="mb-2 border-ochre border-l-2 px-3 py-1">
      The service does not answer; what you see is from <When at={new Date(since).toISOString()} />. It is asked again by itself.
    </p>
  );
}

const help: [string, string][] = [
  ["↑ ↓ or j k", "move through a list"],
  ["Enter", "open what is in hand"],
  ["s  d", "same, different (on the review desk)"],
  ["u", "undo the last ruling there"],
  ["/", "search"],
  ["Tab", "from part to part"],
  ["?", "these keys"],
];

function Keys() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (e.key === "?" && !(e.target instanceof HTMLInputElement || e.target instanceof HTMLTextAreaElement)) setOpen(true);
    };
    addEventListener("keydown", key);
    return () => removeEventListener("keydown", key);
  }, []);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ink/30" />
        <Dialog.Content
          aria-describedby={undefined}
          className="-translate-x-1/2 fixed top-24 left-1/2 w-80 rounded-sm border border-hair bg-leaf p-5 shadow-lg"
        >
          <Dialog.Title className="mb-3 font-semibold">Keys</Dialog.Title>
          <dl className="grid grid-cols-[90px_1fr] gap-y-1">
            {help.map(([k, what]) => (
              <div key={k} className="contents">
                <dt className="font-mono text-[12px]">{k}</dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
