import { Dialog } from "radix-ui";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { useAct, useMay, useTask } from "../data/queries";
import { Button, Select, Trouble, thousands } from "./parts";

type Verb = Schemas["Action"];
type Whom = Pick<Schemas["ActionInput"], "accountIds" | "personIds" | "findings">;

const verbs: [Verb, string][] = [
  ["suspend", "suspend: nobody can sign in with it"],
  ["reinstate", "reinstate, where the suspension was ours"],
  ["hide", "hide from address lists"],
  ["unhide", "list again"],
  ["enrol", "put into groups"],
  ["withdraw", "take out of groups"],
  ["place", "move to another branch"],
  ["reissue", "give a new secret, handed over once"],
  ["invite", "invite by mail to sign in"],
  ["delete", "delete, where it is suspended"],
];

/** After these the charter would want it otherwise the next night. */
const returns: Verb[] = ["suspend", "reinstate", "hide", "unhide"];

/** Asks for one thing to be done to some accounts: a plan is drafted, and opened. */
export function AskFor({
  lane,
  count,
  what,
  whom,
  first = "suspend",
}: {
  lane: string;
  count: number;
  what: string;
  whom: Whom;
  first?: Verb;
}) {
  const may = useMay();
  const go = useNavigate();
  const [open, setOpen] = useState(false);
  const [verb, setVerb] = useState<Verb>(first);
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("");
  const [groups, setGroups] = useState("");
  const [container, setContainer] = useState("");
  const [task, setTask] = useState<number>();
  const progress = useTask(task, (t) => t.plan && go(`/plans/${t.plan}`));
  const grouped = verb === "enrol" || verb === "withdraw";
  const send = useAct(
    () =>
      ask(
        api.POST("/lanes/{lane}/actions", {
          params: { path: { lane } },
          body: {
            ...whom,
            verb,
            reason,
            until: (returns.includes(verb) && until) || undefined,
            groups: grouped ? groups.split(";").map((g) => g.trim()) : undefined,
            container: verb === "place" ? container : undefined,
          },
        }),
      ),
    (begun) => ("hash" in begun ? go(`/plans/${begun.id}`) : setTask(begun.id)),
  );
  const busy = send.isPending || (progress !== undefined && !progress.ended);
  const field = "mt-1 block h-7 w-full rounded-sm border border-hair bg-paper px-2";
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button disabled={!may("work") || count === 0}>
          Act on {thousands(count)} {what}…
        </Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ink/30" />
        <Dialog.Content className="-translate-x-1/2 fixed top-24 left-1/2 w-[460px] rounded-sm border border-hair bg-leaf p-5 shadow-lg">
          <Dialog.Title className="mb-2 font-semibold text-base">
            Act on {thousands(count)} {what}
          </Dialog.Title>
          <Dialog.Description className="mb-3 text-soft">
            A plan is drafted with all checks; what can't be done is told with its reason. Nothing is written before it is sealed and run.
          </Dialog.Description>
          <form
            className="space-y-3"
            onSubmit={(e) => {
              e.preventDefault();
              send.mutate(undefined);
            }}
          >
            <div>
              <Select label="what is asked for" value={verb} onChange={(v) => setVerb(v as Verb)} className="mt-1 block w-full">
                {verbs.map(([v, words]) => (
                  <option key={v} value={v}>
                    {words}
                  </option>
                ))}
              </Select>
            </div>
            {grouped && (
              <label className="block">
                Groups, with ; between them
                <input value={groups} onChange={(e) => setGroups(e.target.value)} className={field} />
              </label>
            )}
            {verb === "place" && (
              <label className="block">
                Branch
                <input value={container} onChange={(e) => setContainer(e.target.value)} className={field} />
              </label>
            )}
            <label className="block">
              Why? It stands beside each change.
              <input value={reason} onChange={(e) => setReason(e.target.value)} className={field} />
            </label>
            {returns.includes(verb) && (
              <label className="block">
                The charter leaves it so until (thirty days when blank)
                <input type="date" value={until} onChange={(e) => setUntil(e.target.value)} className={`${field} w-44`} />
              </label>
            )}
            {send.error && <Trouble error={send.error} />}
            {progress?.state === "failed" && <Trouble error={progress.message} />}
            <div className="flex justify-end gap-2">
              <Dialog.Close asChild>
                <Button>Leave it</Button>
              </Dialog.Close>
              <Button type="submit" tone="main" disabled={busy || reason.trim() === ""}>
                Draft the plan
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
