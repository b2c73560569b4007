import { Dialog } from "radix-ui";
import type { Change, Schemas } from "../data/client";
import { useReceipt } from "../data/queries";
import { Glyph } from "./glyph";
import { Button, Facts, Trouble, When } from "./parts";
import { Marked, Value } from "./value";

/** The verbs that take something from somebody. */
export const harmful = ["suspend", "delete"];

export function Verb({ verb }: { verb: string }) {
  const harm = harmful.includes(verb);
  return (
    <span className={harm ? "text-madder" : "font-medium"}>
      {harm && <Glyph state="harm" />} {verb}
    </span>
  );
}

/** What a change writes, old beside new; where both are there, the difference is marked inside the values. */
export function Edits({ edits }: { edits: Schemas["Edit"][] }) {
  return (
    <>
      {edits.map((e) => {
        const old = e.old.join("; ");
        const now = e.new.join("; ");
        return (
          <span key={e.attribute} className="block">
            <span className="text-soft">{e.attribute}</span>{" "}
            {old ? (
              <del>
                <Value>{old}</Value>
              </del>
            ) : (
              <span className="text-soft">—</span>
            )}{" "}
            →{" "}
            {now ? (
              alike(old, now) ? (
                <Marked value={now} other={old} />
              ) : (
                <ins>
                  <Value>{now}</Value>
                </ins>
              )
            ) : (
              "—"
            )}
          </span>
        );
      })}
    </>
  );
}

/** Two values have so much in common that the rest is worth marking. */
function alike(old: string, now: string) {
  let from = 0;
  while (from < old.length && old[from] === now[from]) from++;
  let end = 0;
  while (end < old.length - from && end < now.length - from && old.at(-1 - end) === now.at(-1 - end)) end++;
  return (from + end) * 3 > now.length && from + end > 3;
}

export function Outcome({ change: c }: { change: Change }) {
  if (c.setAside)
    return (
      <span data-state="set-aside" className="text-soft">
        set aside <span className="block text-[12px]">{c.setAside}</span>
      </span>
    );
  if (!c.outcome) return null;
  const good = c.outcome === "done" || c.outcome === "unchanged";
  return (
    <span data-state={c.outcome} className={good ? "" : "text-madder"}>
      {!good && <Glyph state="harm" />} {c.outcome}
      {c.verified && <span className="text-soft">, {c.verified}</span>}
      {c.detail && !good && <span className="block text-[12px]">{c.detail}</span>}
    </span>
  );
}

/** A change with its receipt: what was read, sent and answered. */
export function ReceiptOf({ change, run, close }: { change?: Change; run?: number; close: () => void }) {
  const list = useReceipt(run, change?.number);
  const r = list.data?.items[0];
  return (
    <Dialog.Root open={change !== undefined} onOpenChange={(open) => !open && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ink/30" />
        <Dialog.Content
          aria-describedby={undefined}
          className="-translate-x-1/2 fixed top-16 left-1/2 max-h-[80vh] w-[760px] overflow-auto rounded-sm border border-hair bg-leaf p-5 shadow-lg"
        >
          <Dialog.Title className="mb-2 font-semibold text-base">
            {change?.verb} {change?.label}
          </Dialog.Title>
          {change && (
            <Facts
              rows={[
                ["person", change.person ?? "—"],
                ["account", r?.account ?? change.account ?? "—"],
                ["change", `${change.number}, ${change.id}`],
                ["writes", <Edits key="writes" edits={change.edits} />],
                ["reason", [...new Set(change.edits.map((e) => e.reason))].join("; ")],
              ]}
            />
          )}
          <h2 className="mt-3 mb-1">Receipt</h2>
          {list.error && <Trouble error={list.error} />}
          {run === undefined || (list.data && !r) ? <p className="text-soft">It has not been carried out.</p> : null}
          {r && (
            <Facts
              rows={[
                ["outcome", `${r.outcome ?? "being sent"}${r.detail ? `: ${r.detail}` : ""}`],
                ["intended", <When key="intended" at={r.intended} />],
                ["before", <Natives key="before" of={r.before} />],
                ["sent", <Natives key="sent" of={r.sent} />],
                ["after", <Natives key="after" of={r.after} />],
                ["verified", r.verified ?? "not read again yet"],
                [
                  "trace",
                  <pre key="trace" className="whitespace-pre-wrap font-mono text-[12px]">
                    {r.trace.join("\n")}
                  </pre>,
                ],
              ]}
            />
          )}
          <div className="mt-4 flex justify-end">
            <Dialog.Close asChild>
              <Button>Close</Button>
            </Dialog.Close>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** Values by the system's own names. */
function Natives({ of }: { of: Record<string, string[]> }) {
  const names = Object.keys(of).sort();
  if (names.length === 0) return <span className="text-soft">nothing</span>;
  return (
    <>
      {names.map((n) => (
        <span key={n} className="block font-mono text-[12px]">
          <span className="text-soft">{n}</span> <Value>{of[n].join("; ") || "—"}</Value>
        </span>
      ))}
    </>
  );
}
