import { Dialog } from "radix-ui";
import { type ReactNode, useState } from "react";
import { Button, Trouble } from "./parts";

/** What a confirmation says, and what has to be given. */
export type Asked = {
  title: string;
  /** The button's words. */
  act: string;
  body: ReactNode;
  /** Where it is set, this number has to be typed. */
  count?: number;
  /** The label of the reason; where it is set, a reason is required. */
  reason?: string;
  /** The label of a secret; where it is set, one is required. It is never shown, and forgotten when the dialog closes. */
  secret?: string;
  tone?: "main" | "harm";
};

/**
 * Asks before something is done. What it is about is pinned when it opens: the dialog goes on
 * to show that, and the act is given that. Where what is there now is something else, the
 * dialog says what differs, and nothing can be confirmed.
 */
export function Confirm<T>(props: {
  trigger: ReactNode;
  about: T;
  ask: (about: T) => Asked;
  differs?: (pinned: T, now: T) => string[];
  /** There is nothing to open any more; a dialog that is open stays. */
  gone?: boolean;
  busy: boolean;
  error: unknown;
  /** Does it, with the reason or the secret; the dialog closes once that is done. */
  confirm: (about: T, given: string) => Promise<unknown>;
}) {
  const [pinned, pin] = useState<{ about: T }>();
  const [sent, setSent] = useState(false); // an error of an earlier opening is not this one's
  const close = () => {
    pin(undefined);
    setSent(false);
  };
  if (props.gone && !pinned) return null;
  return (
    <Dialog.Root open={pinned !== undefined} onOpenChange={(open) => (open ? pin({ about: props.about }) : close())}>
      {!props.gone && <Dialog.Trigger asChild>{props.trigger}</Dialog.Trigger>}
      {pinned && (
        <Question
          asked={props.ask(pinned.about)}
          differs={props.differs?.(pinned.about, props.about) ?? []}
          busy={props.busy}
          error={sent ? props.error : null}
          confirm={(given) => {
            setSent(true);
            props.confirm(pinned.about, given).then(close, () => {}); // its error is shown
          }}
        />
      )}
    </Dialog.Root>
  );
}

/** The frame of all dialogs. */
export function Frame({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Dialog.Portal>
      <Dialog.Overlay className="fixed inset-0 bg-ink/30" />
      <Dialog.Content
        aria-describedby={undefined}
        className="-translate-x-1/2 fixed top-24 left-1/2 max-h-[80vh] w-[460px] overflow-auto rounded-sm border border-hair bg-leaf p-5 shadow-lg"
      >
        <Dialog.Title className="mb-2 font-semibold text-base">{title}</Dialog.Title>
        {children}
      </Dialog.Content>
    </Dialog.Portal>
  );
}

/** Says that what a dialog is about has changed since it opened, and how. */
export function Moved({ differs }: { differs: string[] }) {
  if (differs.length === 0) return null;
  return (
    <div role="alert" className="my-2 border-ochre border-l-2 px-3 py-2">
      <p className="font-medium text-ochre">This has changed since you opened it. Nothing was done.</p>
      <ul>
        {differs.map((d) => (
          <li key={d}>{d}</li>
        ))}
      </ul>
      <p className="text-soft">Close, look again, then decide.</p>
    </div>
  );
}

const field = "mt-1 block h-7 rounded-sm border border-hair bg-paper px-2";

function Question({
  asked: a,
  differs,
  busy,
  error,
  confirm,
}: {
  asked: Asked;
  differs: string[];
  busy: boolean;
  error: unknown;
  confirm: (given: string) => void;
}) {
  const [typed, setTyped] = useState("");
  const [given, setGiven] = useState("");
  const label = a.secret ?? a.reason;
  const ready =
    differs.length === 0 && !busy && (a.count === undefined || typed.trim() === String(a.count)) && (!label || given.trim() !== "");
  return (
    <Frame title={a.title}>
      <div className="mb-3 text-soft">{a.body}</div>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (ready) confirm(given);
        }}
      >
        {label && (
          <label className="mb-3 block">
            {label}
            <input
              type={a.secret ? "password" : "text"}
              autoComplete={a.secret ? "new-password" : "off"}
              value={given}
              onChange={(e) => setGiven(e.target.value)}
              className={`${field} w-full`}
            />
          </label>
        )}
        {a.count !== undefined && (
          <label className="block">
            Type {a.count} to confirm
            <input value={typed} onChange={(e) => setTyped(e.target.value)} inputMode="numeric" className={`${field} w-32`} />
          </label>
        )}
        <Moved differs={differs} />
        {error && differs.length === 0 ? <Trouble error={error} /> : null}
        <div className="mt-4 flex justify-end gap-2">
          <Dialog.Close asChild>
            <Button>Cancel</Button>
          </Dialog.Close>
          <Button type="submit" tone={a.tone ?? "main"} disabled={!ready}>
            {a.act}
          </Button>
        </div>
      </form>
    </Frame>
  );
}
