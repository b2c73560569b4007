import { useState } from "react";
import { api, ask, type Change, type Plan } from "../data/client";
import { useAct, useComments, useMay, useRefusals } from "../data/queries";
import { Id } from "./list";
import { Button, many, Trouble, thousands, When } from "./parts";

/** What was asked for and is not in the plan. */
export function Refusals({ plan: p }: { plan: Plan }) {
  const [open, setOpen] = useState(false);
  const list = useRefusals(p.id, open && p.refused > 0);
  if (p.refused === 0) return null;
  return (
    <details open={open} onToggle={(e) => setOpen(e.currentTarget.open)} className="mb-2">
      <summary className="py-0.5 text-madder">{thousands(p.refused)} of what was asked for is not in it</summary>
      {list.error && <Trouble error={list.error} />}
      <ul className="max-h-48 overflow-auto border-hair border-y" tabIndex={0} aria-label="what is not in the plan">
        {list.rows.map((r, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: they never move
          <li key={i} className="grid grid-cols-[70px_240px_110px_1fr] gap-3 px-2 py-0.5">
            <span className="text-soft">{r.place}</span>
            <span>
              {r.label} <Id>{r.account ?? r.person}</Id>
            </span>
            <span className="text-soft">{r.attribute}</span>
            <span>{r.reason}</span>
          </li>
        ))}
      </ul>
      {list.more && (
        <Button repeat onClick={list.more}>
          Show more
        </Button>
      )}
    </details>
  );
}

/** What was said about the plan and its changes. */
export function Comments({ plan, about: marked, changes }: { plan: number; about?: Change; changes: Change[] }) {
  const list = useComments(plan);
  const may = useMay();
  const [text, setText] = useState("");
  const [begun, begin] = useState<{ about?: Change }>(); // what is written stays about what it was begun about
  const about = begun ? begun.about : marked;
  const say = useAct(
    () => ask(api.POST("/plans/{plan}/comments", { params: { path: { plan } }, body: { text, change: about?.id } })),
    () => {
      setText("");
      begin(undefined);
    },
  );
  const items = list.data?.items ?? [];
  const named = (id: string) => {
    const c = changes.find((x) => x.id === id);
    return c ? `${c.verb} ${c.label}` : id;
  };
  return (
    <details className="mb-2">
      <summary className="py-0.5 text-soft">{items.length === 0 ? "No comment yet" : many(items.length, "comment")}</summary>
      <ul>
        {items.map((c) => (
          <li key={c.id} className="grid grid-cols-[150px_1fr] gap-3 border-hair border-b px-2 py-0.5">
            <span className="text-soft">
              {c.by} <When at={c.at} />
            </span>
            <span className="whitespace-pre-wrap">
              {c.change && <span className="text-soft">{named(c.change)}: </span>}
              {c.text}
            </span>
          </li>
        ))}
      </ul>
      <form
        className="mt-1 flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (text.trim()) say.mutate(undefined);
        }}
      >
        <input
          aria-label={about ? `Comment on ${about.verb} ${about.label}` : "Comment on the plan"}
          placeholder={about ? `about ${about.verb} ${about.label}` : "about the plan; mark one change to say something about that"}
          value={text}
          maxLength={4000}
          onChange={(e) => {
            if (!begun || e.target.value === "") begin(e.target.value === "" ? undefined : { about: marked });
            setText(e.target.value);
          }}
          className="h-7 w-[420px] rounded-sm border border-hair bg-leaf px-2 placeholder:text-soft"
        />
        {begun?.about && (
          <span className="text-soft">
            about {begun.about.verb} {begun.about.label}
          </span>
        )}
        <Button type="submit" disabled={!may("work") || !text.trim() || say.isPending}>
          Say it
        </Button>
      </form>
      {say.error && <Trouble error={say.error} />}
    </details>
  );
}
