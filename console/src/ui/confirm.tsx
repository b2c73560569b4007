import { Dialog } from "radix-ui";
import { type ReactNode, useState } from "react";
import { Button, Trouble } from "./parts";

/**
 * Agreement to something that matters: it says what will happen to how many,
 * and is given by typing the count, not by a second OK; where it takes nothing away, a
 * reason is enough.
 */
export function Confirm(props: {
  trigger: ReactNode;
  title: string;
  children: ReactNode;
  count?: number;
  act: string;
  tone?: "main" | "harm";
  reason?: string;
  busy: boolean;
  error: unknown;
  /** What it promises closes the question once it is kept. */
  confirm: (reason: string) => unknown;
  /** What is agreed to is pinned when it is opened. */
  opened?: () => void;
}) {
  const [typed, setTyped] = useState("");
  const [reason, setReason] = useState("");
  const [open, setOpen] = useState(false);
  const ready = (props.count === undefined || typed.trim() === String(props.count)) && (!props.reason || reason.trim() !== "");
  return (
    <Dialog.Root
      open={open}
      onOpenChange={(open) => {
        setOpen(open);
        setTyped("");
        if (open) props.opened?.();
      }}
    >
      <Dialog.Trigger asChild>{props.trigger}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ink/30" />
        <Dialog.Content className="-translate-x-1/2 fixed top-24 left-1/2 w-[460px] rounded-sm border border-hair bg-leaf p-5 shadow-lg">
          <Dialog.Title className="mb-2 font-semibold text-base">{props.title}</Dialog.Title>
          <Dialog.Description asChild>
            <div className="mb-3 text-soft">{props.children}</div>
          </Dialog.Description>
          {props.reason && (
            <label className="mb-3 block">
              {props.reason}
              <input
                value={reason}
                onChange={(e) => setReason(e.target.value)}
                className="mt-1 block h-7 w-full rounded-sm border border-hair bg-paper px-2"
              />
            </label>
          )}
          <form
            onSubmit={(e) => {
              e.preventDefault();
              if (!ready) return;
              const kept = props.confirm(reason);
              if (kept instanceof Promise)
                kept.then(
                  () => setOpen(false),
                  () => {}, // it is told
                );
            }}
          >
            {props.count !== undefined && (
              <label className="block">
                Type {props.count} to agree
                <input
                  value={typed}
                  onChange={(e) => setTyped(e.target.value)}
                  inputMode="numeric"
                  className="mt-1 block h-7 w-32 rounded-sm border border-hair bg-paper px-2"
                />
              </label>
            )}
            {props.error ? <Trouble error={props.error} /> : null}
            <div className="mt-4 flex justify-end gap-2">
              <Dialog.Close asChild>
                <Button>Leave it</Button>
              </Dialog.Close>
              <Button type="submit" tone={props.tone ?? "main"} disabled={!ready || props.busy}>
                {props.act}
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
