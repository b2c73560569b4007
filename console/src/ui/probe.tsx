import type { Schemas } from "../data/client";
import { When } from "./parts";

const marks = { ok: ["●", ""], warning: ["◐", "text-ochre"], failed: ["⊘", "text-madder"] } as const;

/** A probe's report: step by step, what was found, what it means, what to do. */
export function ProbeReport({ probe }: { probe: Schemas["Probe"] }) {
  return (
    <section aria-label="probe" className="my-3 border-hair border-y py-2">
      <p className="mb-1 text-soft">
        Probed <When at={probe.at} />. Nothing in this report is secret: it can be handed to another team.
      </p>
      <ol>
        {probe.steps.map((s) => (
          <li key={s.name} data-state={s.state} className="grid grid-cols-[90px_110px_1fr_60px] gap-x-3 py-0.5">
            <span className={marks[s.state][1]}>
              {marks[s.state][0]} {s.state}
            </span>
            <span className="font-medium">{s.name}</span>
            <span className="min-w-0 break-words">
              {s.said}
              {s.means && <span className="block text-soft">{s.means}</span>}
              {s.next && <span className="block">→ {s.next}</span>}
            </span>
            <span className="text-right text-soft">{s.millis} ms</span>
          </li>
        ))}
      </ol>
    </section>
  );
}
