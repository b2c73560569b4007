import type { Schemas } from "../data/client";
import { StateWord } from "./glyph";
import { Id } from "./list";

/** A value beside another: what both begin and end with is quiet, the rest is marked. */
export function Marked({ value, other }: { value: string; other: string }) {
  const a = [...value];
  const b = [...other];
  let from = 0;
  while (from < a.length && from < b.length && a[from].toLowerCase() === b[from].toLowerCase()) from++;
  let end = 0;
  while (end < a.length - from && end < b.length - from && a[a.length - 1 - end].toLowerCase() === b[b.length - 1 - end].toLowerCase())
    end++;
  const middle = a.slice(from, a.length - end).join("");
  return (
    <>
      {a.slice(0, from).join("")}
      {middle && <ins>{middle}</ins>}
      {a.slice(a.length - end).join("")}
    </>
  );
}

/** The heads of the two pages of the ledger. */
export function FacingRecord({ side, record, none }: { side: "larkspur" | "lichen"; record?: Schemas["Facing"]; none: string }) {
  const left = side === "larkspur";
  if (!record) return <span className={`text-soft ${left ? "text-right" : ""}`}>{none}</span>;
  return (
    <span className={`min-w-0 break-words ${left ? "text-right" : ""}`}>
      <span className={`font-semibold text-base ${left ? "text-larkspur" : "text-lichen"}`}>{record.label || "—"}</span>{" "}
      <Id>{record.id}</Id> <StateWord state={record.state} />
    </span>
  );
}

/** Two records, one attribute a line, its name in the spine. */
export function FacingRows({ attributes }: { attributes: Schemas["Comparison"][] }) {
  return attributes.map((a) => {
    const differ = a.person !== "" && a.account !== "" && !a.equal;
    return (
      <div
        key={a.attribute}
        data-state={a.equal ? "equal" : differ ? "differ" : "alone"}
        className={`grid grid-cols-[1fr_130px_1fr] gap-3 py-0.5 ${a.equal ? "text-soft" : ""}`}
      >
        <span className="min-w-0 break-words text-right">{differ ? <Marked value={a.person} other={a.account} /> : a.person}</span>
        <span className="border-hair border-x text-center text-soft">{a.attribute}</span>
        <span className="min-w-0 break-words">
          {differ ? <Marked value={a.account} other={a.person} /> : a.account}
          {a.said && <span className="ml-3 text-soft">{a.said}</span>}
        </span>
      </div>
    );
  });
}
