import { useState } from "react";
import { useNavigate } from "react-router";
import { loadSheet } from "../data/client";
import { useAct, useMay, useTask } from "../data/queries";
import { DropFile } from "../ui/dropfile";
import { Pick, Trouble } from "../ui/parts";

/** Accounts go out as a sheet, are edited, and come back as the draft of a plan. */
export function Sheets({ lane }: { lane: string }) {
  const may = useMay();
  const go = useNavigate();
  const [columns, setColumns] = useState("");
  const [state, setState] = useState("");
  const [intent, setIntent] = useState("update");
  const [reason, setReason] = useState("");
  const [task, setTask] = useState<number>();
  const progress = useTask(task, (t) => t.plan && go(`/plans/${t.plan}`));
  const load = useAct(
    (file: File) => loadSheet(lane, file, intent as "add" | "update" | "both", reason),
    (begun) => ("hash" in begun ? go(`/plans/${begun.id}`) : setTask(begun.id)),
  );
  const query = new URLSearchParams({ format: "xlsx", ...(columns && { columns }), ...(state && { state }) });
  const busy = load.isPending || (progress !== undefined && !progress.ended);
  return (
    <div className="grid grid-cols-2 gap-10">
      <section className="space-y-3">
        <h2 className="font-semibold">Out</h2>
        <p className="text-soft">
          One row an account. Its column id identifies; beside each attribute stands what it was. In the spreadsheet a blank cell leaves
          alone, (clear) clears, and the column action takes suspend, reinstate, hide, unhide or delete.
        </p>
        <label className="block">
          Attributes, with commas between them (those that the charter does not rule when blank)
          <input
            value={columns}
            onChange={(e) => setColumns(e.target.value)}
            placeholder="title, department"
            className="mt-1 block h-7 w-full rounded-sm border border-hair bg-leaf px-2 placeholder:text-soft"
          />
        </label>
        <Pick
          label="accounts"
          value={state}
          onChange={setState}
          options={[
            ["", "all of the lane"],
            ["twinned", "twinned"],
            ["orphan", "orphan"],
            ["duplicate", "duplicate"],
            ["contested", "contested"],
          ]}
        />
        <p className="pt-2">
          <a
            href={`/v1/lanes/${lane}/sheet?${query}`}
            download={`${lane}-accounts.xlsx`}
            className="inline-flex h-7 items-center rounded-sm border border-hair bg-leaf px-2.5 hover:bg-wash"
          >
            Take the sheet
          </a>
        </p>
      </section>
      <section className="space-y-3">
        <h2 className="font-semibold">Back</h2>
        <p className="text-soft">
          A plan is drafted of what differs, and shows every value beside the old one. What was changed meanwhile, what a spreadsheet has
          spoilt, and what the charter rules is told and not drafted.
        </p>
        <Pick
          label="rows"
          value={intent}
          onChange={setIntent}
          options={[
            ["update", "change accounts that are there"],
            ["add", "make accounts, where person identifies"],
            ["both", "make or change, where person identifies"],
          ]}
        />
        <label className="block">
          Why? It stands beside each change.
          <input
            value={reason}
            onChange={(e) => setReason(e.target.value)}
            className="mt-1 block h-7 w-full rounded-sm border border-hair bg-leaf px-2"
          />
        </label>
        {may("work") ? (
          <DropFile
            label="sheet to load"
            hint="or drop the sheet here: xlsx or CSV"
            accept=".xlsx,.csv"
            busy={busy}
            take={(f) => load.mutate(f)}
          />
        ) : (
          <p className="text-soft">Loading a sheet needs the right work.</p>
        )}
        {load.error && <Trouble error={load.error} />}
        {progress?.state === "failed" && <Trouble error={progress.message} />}
      </section>
    </div>
  );
}
