import type { Guard } from "../data/client";
import { Glyph } from "./glyph";
import { thousands } from "./parts";

/** A guard as a meter: what the plan counts against what is allowed. */
export function GuardMeter({ guard }: { guard: Guard }) {
  if (guard.message)
    return (
      <p className="flex items-center gap-2 text-madder">
        <Glyph state="harm" /> stopped: {guard.message}
      </p>
    );
  const counted = guard.count + guard.recent + guard.pending;
  const scale = Math.max(counted, guard.allowed, 1) * 1.1;
  const percent = (n: number) => `${(100 * n) / scale}%`;
  return (
    <div className="grid grid-cols-[80px_1fr_330px] items-center gap-3" data-state={guard.tripped ? "tripped" : "clear"}>
      <span className={guard.tripped ? "font-semibold text-madder" : ""}>
        {guard.tripped && <Glyph state="harm" />} {guard.verb}
      </span>
      <span className="relative block h-2.5 bg-wash" aria-hidden="true">
        <span className={`absolute inset-y-0 left-0 ${guard.tripped ? "bg-madder" : "bg-soft"}`} style={{ width: percent(counted) }} />
        <span className="absolute -inset-y-1 w-px bg-ink" style={{ left: percent(guard.allowed) }} />
      </span>
      <span className="text-soft">
        {guard.tripped ? "stopped: " : ""}
        {thousands(guard.count)}
        {guard.recent > 0 ? ` and ${thousands(guard.recent)} in the days before` : ""}
        {guard.pending > 0 ? `, ${thousands(guard.pending)} by other sealed plans` : ""}, {thousands(guard.allowed)} allowed of{" "}
        {thousands(guard.denominator)} {guard.of}
        {guard.tripped && counted > guard.allowed && guard.allowed > guard.recent + guard.pending
          ? `: draft ${thousands(guard.allowed - guard.recent - guard.pending)} at most`
          : ""}
      </span>
    </div>
  );
}
