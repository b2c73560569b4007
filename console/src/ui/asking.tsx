import { Dialog } from "radix-ui";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { changedSelection, type Selection } from "../data/differences";
import { useAct, useMay, useTask } from "../data/queries";
import { Frame, Moved } from "./confirm";
import { Button, many, Select, Trouble } from "./parts";

type Verb = Schemas["Action"];
type Whom = Selection["whom"];

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

/** Asks for one thing to be done to some accounts, those that were selected when it opened: a plan is drafted, and opened. */
export function AskFor(props: {
  lane: string;
  count: number;
  /** The noun of what is counted. */
  what: string;
  whom: Whom;
  first?: Verb;
  /** The rows that are shown are those of an earlier filter. */
  awaited?: boolean;
}) {
  const may = useMay();
  const [pinned, pin] = useState<Selection>();
  if (props.count === 0 && !pinned) return null;
  return (
    <Dialog.Root open={pinned !== undefined} onOpenChange={(open) => pin(open ? { count: props.count, whom: props.whom } : undefined)}>
      <Dialog.Trigger asChild>
        <Button disabled={!may("work") || props.count === 0 || props.awaited}>Act on {many(props.count, props.what)}…</Button>
      </Dialog.Trigger>
      {pinned && (
        <Frame title={`Act on ${many(pinned.count, props.what)}`}>
          <p className="mb-3 text-soft">
            A plan is drafted with all checks; what can't be done is listed with its reason. Nothing is written before it is sealed and run.
          </p>
          <Action lane={props.lane} whom={pinned.whom} first={props.first ?? "suspend"} differs={changedSelection(pinned, props)} />
        </Frame>
      )}
    </Dialog.Root>
  );
}

function Action({ lane, whom, first, differs }: { lane: string; whom: Whom; first: Verb; differs: string[] }) {
  const go = useNavigate();
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
  const ready = !busy && reason.trim() !== "" && differs.length === 0;
  const field = "mt-1 block h-7 w-full rounded-sm border border-hair bg-paper px-2";
  return (
    <form
      className="space-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        if (ready) send.mutate(undefined);
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
        Reason; it stands beside each change
        <input value={reason} onChange={(e) => setReason(e.target.value)} className={field} />
      </label>
      {returns.includes(verb) && (
        <label className="block">
          The charter leaves it so until (thirty days when blank)
          <input type="date" value={until} onChange={(e) => setUntil(e.target.value)} className={`${field} w-44`} />
        </label>
      )}
      <Moved differs={differs} />
      {send.error && <Trouble error={send.error} />}
      {progress?.state === "failed" && <Trouble error={progress.message} />}
      <div className="flex justify-end gap-2">
        <Dialog.Close asChild>
          <Button>Cancel</Button>
        </Dialog.Close>
        <Button type="submit" tone="main" disabled={!ready}>
          Draft the plan
        </Button>
      </div>
    </form>
  );
}
