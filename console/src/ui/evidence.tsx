import type { Schemas } from "../data/client";

const most = 18; // bits that fill half of the drawing
const half = 70;

const called: Record<string, string> = {
  familyName: "family name",
  givenName: "given name",
  middleName: "middle name",
  day: "first day",
  location: "site",
};

/**
 * What speaks for and against, a row each: bars that grow towards each other
 * for, and away from the spine against, with the words and bits beside them.
 */
export function EvidenceBars({ said, bits, needed }: { said: Schemas["Said"][]; bits: number; needed?: number }) {
  return (
    <table className="w-full border-hair border-y">
      <caption className="sr-only">what speaks for and against the two being one human, in bits</caption>
      <thead className="sr-only">
        <tr>
          <th>compared</th>
          <th>drawn</th>
          <th>bits and how far they agree</th>
        </tr>
      </thead>
      <tbody>
        {said.map((s) => (
          <tr
            key={s.comparator}
            data-state={s.bits < 0 ? "against" : "for"}
            title={s.person || s.account ? `${s.person ?? ""} ┊ ${s.account ?? ""}` : undefined}
          >
            <td className="w-1/2 py-0.5 pr-3 text-right">{called[s.comparator] ?? s.comparator}</td>
            <td>
              <Bar bits={s.bits} />
            </td>
            <td className="w-1/2 pl-3">
              <span className={`inline-block w-10 text-right ${s.bits < 0 ? "text-madder" : ""}`}>{signed(s.bits)}</span>{" "}
              <span className="text-soft">{s.level}</span>
            </td>
          </tr>
        ))}
        <tr className="border-hair border-t">
          <td className="py-1 pr-3 text-right font-semibold">bits in all</td>
          <td />
          <td className="pl-3">
            <span className="inline-block w-10 text-right font-semibold">{signed(bits)}</span>{" "}
            {needed !== undefined && <span className="text-soft">of {needed.toFixed(1)} needed</span>}
          </td>
        </tr>
      </tbody>
    </table>
  );
}

const signed = (n: number) => (n < 0 ? "−" : "+") + Math.abs(n).toFixed(1);

function Bar({ bits }: { bits: number }) {
  const long = (Math.min(Math.abs(bits), most) / most) * half;
  return (
    <svg viewBox={`0 0 ${2 * half} 12`} className="block h-3 w-[140px]" aria-hidden="true">
      <path d={`M${half} 0V12`} className="stroke-hair" />
      {bits >= 0 ? (
        <path d={`M0 3h${long}v6H0ZM${2 * half} 3h${-long}v6h${long}Z`} className="fill-ink" />
      ) : (
        <path
          d={`M${half - 2} 3h${-long}v6h${long}ZM${half + 2} 3h${long}v6h${-long}Z`}
          className="fill-none stroke-madder"
          strokeDasharray="3 2"
        />
      )}
    </svg>
  );
}
