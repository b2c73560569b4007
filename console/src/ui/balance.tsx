import type { Schemas } from "../data/client";
import { Glyph } from "./glyph";
import { thousands } from "./parts";

type Side = "people" | "accounts";
type Part = { side: Side; state: string; count: number };

const order: Record<Side, string[]> = {
  people: ["twinned", "contested", "duplicate", "missing", "exempt"],
  accounts: ["twinned", "contested", "duplicate", "orphan", "exempt"],
};
const fills: Record<string, string> = {
  twinned: "fill-ink",
  contested: "fill-ochre",
  missing: "fill-larkspur",
  orphan: "fill-lichen",
  exempt: "fill-hair",
};

export function partsOf(balance: Schemas["Balance"], side: Side): Part[] {
  const counts = balance[side] as unknown as Record<string, number>;
  return order[side].map((state) => ({ side, state, count: counts[state] }));
}

const height = 236;
const smallest = 7; // a part of one record is still there to be clicked

/** Heights to scale; small parts keep a minimum, taken from the large ones. */
function heights(parts: Part[], total: number, scale: number): number[] {
  const raw = parts.map((p) => (p.count === 0 ? 0 : Math.max(smallest, (p.count / Math.max(total, 1)) * scale)));
  const excess = raw.reduce((a, b) => a + b, 0) - scale;
  const largest = raw.indexOf(Math.max(...raw));
  if (excess > 0) raw[largest] -= excess;
  return raw;
}

/**
 * The ledger opened flat: people on the left page, accounts on the right, the
 * spine between them, a band where they are joined. Every record is in one
 * place; a click lists those of a part.
 */
export function BalanceDrawing({
  balance,
  chosen,
  choose,
}: {
  balance: Schemas["Balance"];
  chosen?: { side: string; state: string };
  choose: (side: Side, state: string) => void;
}) {
  const most = Math.max(balance.people.total, balance.accounts.total, 1);
  const bar = (side: Side) => {
    const parts = partsOf(balance, side);
    const total = balance[side].total;
    return { parts, sizes: heights(parts, total, (height * total) / most) };
  };
  const left = bar("people");
  const right = bar("accounts");
  const x = { people: 210, accounts: 490, width: 60 };
  const labels = (side: Side, parts: Part[], sizes: number[]) => {
    let y = 0;
    let lastLabel = -20;
    return parts.map((p, i) => {
      const top = y;
      y += sizes[i];
      if (p.count === 0) return null;
      const middle = Math.max(top + sizes[i] / 2, lastLabel + 17);
      lastLabel = middle;
      const isLeft = side === "people";
      const share = `${((100 * p.count) / Math.max(balance[side].total, 1)).toFixed(1)} %`;
      const words = isLeft ? `${p.state} ${thousands(p.count)}` : `${thousands(p.count)} ${p.state}`;
      const selected = chosen?.side === side && chosen.state === p.state;
      return (
        <g
          key={p.state}
          role="button"
          tabIndex={0}
          aria-label={`${words} ${side}, ${share}`}
          aria-pressed={selected}
          className="cursor-pointer focus-visible:outline-2 focus-visible:outline-larkspur"
          onClick={() => choose(side, p.state)}
          onKeyDown={(e) => {
            if (e.key !== "Enter" && e.key !== " ") return;
            e.preventDefault();
            choose(side, p.state);
          }}
        >
          <title>{`${p.state}: ${thousands(p.count)}, ${share}`}</title>
          <rect
            x={x[side]}
            y={top + 0.5}
            width={x.width}
            height={Math.max(sizes[i] - 1, 1)}
            className={`${fills[p.state] ?? (isLeft ? "fill-larkspur" : "fill-lichen")} ${selected ? "stroke-larkspur stroke-[3px]" : ""} ${p.state === "duplicate" ? "opacity-60" : ""}`}
          />
          <line
            x1={isLeft ? x.people - 3 : x.accounts + x.width + 3}
            x2={isLeft ? x.people - 14 : x.accounts + x.width + 14}
            y1={top + sizes[i] / 2}
            y2={middle}
            className="stroke-hair"
          />
          <text
            x={isLeft ? x.people - 18 : x.accounts + x.width + 18}
            y={middle + 4.5}
            textAnchor={isLeft ? "end" : "start"}
            className={`fill-ink text-[13px] ${selected ? "font-semibold" : ""}`}
          >
            {words}
          </text>
        </g>
      );
    });
  };
  const joined = { left: left.sizes[0], right: right.sizes[0] };
  return (
    <svg viewBox={`0 -26 760 ${height + 78}`} className="w-full max-w-[760px]" role="group" aria-label="balance">
      <text x={x.people + x.width} y={-10} textAnchor="end" className="fill-larkspur font-semibold text-[13px]">
        {thousands(balance.people.total)} people
      </text>
      <text x={x.accounts} y={-10} className="fill-lichen font-semibold text-[13px]">
        {thousands(balance.accounts.total)} accounts
      </text>
      {joined.left > 0 && (
        <path
          d={`M${x.people + x.width} 0 C380 0 380 0 ${x.accounts} 0 V${joined.right} C380 ${joined.right} 380 ${joined.left} ${x.people + x.width} ${joined.left} Z`}
          className="fill-wash stroke-hair"
        />
      )}
      <line x1="380" x2="380" y1="-20" y2={height + 6} className="stroke-soft" strokeDasharray="1 3" />
      {labels("people", left.parts, left.sizes)}
      {labels("accounts", right.parts, right.sizes)}
    </svg>
  );
}

/** The same figures for those who read rather than look. */
export function BalanceTable({ balance }: { balance: Schemas["Balance"] }) {
  const rows = order.people.map((state, i) => ({ left: state, right: order.accounts[i] }));
  const side = (s: Side, state: string) => (balance[s] as unknown as Record<string, number>)[state];
  return (
    <table className="w-full text-[13px]">
      <caption className="sr-only">Balance</caption>
      <thead>
        <tr className="border-hair border-b">
          <th>people</th>
          <th className="text-right">{thousands(balance.people.total)}</th>
          <th className="border-hair border-l pl-3">{thousands(balance.accounts.total)}</th>
          <th className="text-right">accounts</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((r) => (
          <tr key={r.left} className="border-hair border-b">
            <td className="py-0.5">
              <Glyph state={r.left} /> {r.left}
            </td>
            <td className="text-right">{thousands(side("people", r.left))}</td>
            <td className="border-hair border-l pl-3">{thousands(side("accounts", r.right))}</td>
            <td className="text-right">
              {r.right} <Glyph state={r.right} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
