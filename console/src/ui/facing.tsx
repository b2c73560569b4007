import type { Schemas } from "../data/client";
import { StateWord } from "./glyph";
import { Id } from "./list";
import { Marked, Value } from "./value";

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
        <span className="min-w-0 break-words text-right">
          {differ ? <Marked value={a.person} other={a.account} /> : <Value>{a.person}</Value>}
        </span>
        <span className="border-hair border-x text-center text-soft">{a.attribute}</span>
        <span className="min-w-0 break-words">
          {differ ? <Marked value={a.account} other={a.person} /> : <Value>{a.account}</Value>}
          {a.said && <span className="ml-3 text-soft">{a.said}</span>}
        </span>
      </div>
    );
  });
}
