import type { Plan } from "../data/client";
import { Verb } from "./change";
import { Glyph } from "./glyph";
import { thousands } from "./parts";

/** A plan as a whole: by verb beside what is usual, by department and class; each narrows the list. */
export function PlanSummary({ plan: p, verb, q, pick }: { plan: Plan; verb: string; q: string; pick: (verb: string, q: string) => void }) {
  const usual = new Map((p.summary.verbs ?? []).map((u) => [u.name, u]));
  const verbs = Object.entries(p.verbs).sort(([a], [b]) => order(a) - order(b));
  return (
    <div className="grid grid-cols-[1.5fr_1fr] gap-4">
      <div>
        <h2 className="sr-only">By verb</h2>
        <div className={verbs.length > 4 ? "columns-2" : ""}>
          {verbs.map(([v, n]) => {
            const u = usual.get(v);
            return (
              <Row key={v} on={verb === v} count={n} pick={() => pick(verb === v ? "" : v, q)}>
                <Verb verb={v} />
                {u && u.low >= 0 && <span className="text-soft"> usually {u.low === u.high ? u.low : `${u.low}–${u.high}`}</span>}
              </Row>
            );
          })}
          {p.setAside > 0 && (
            <Row on={q === "aside:yes"} count={p.setAside} pick={() => pick("", q === "aside:yes" ? "" : "aside:yes")}>
              <span className="text-soft">set aside</span>
            </Row>
          )}
        </div>
        {p.waves.length > 1 && (
          <p className="mt-1 px-1 text-soft">waves: {p.waves.map((w) => `${w.name} (${thousands(w.changes)})`).join(", then ")}</p>
        )}
      </div>
      <div>
        <Shares title="By department" field="department" list={p.summary.departments ?? []} q={q} pick={(next) => pick(verb, next)} />
        <Shares
          title="By class"
          field="class"
          list={(p.summary.classes ?? []).filter((c) => c.name !== "")}
          q={q}
          pick={(next) => pick(verb, next)}
        />
      </div>
    </div>
  );
}

/** Harm first, then doubt, then routine. */
const order = (verb: string) => {
  const at = ["delete", "suspend", "withdraw", "hide", "rename", "readdress", "reinstate", "create"].indexOf(verb);
  return at < 0 ? 9 : at;
};

function Row({ on, count, pick, children }: { on: boolean; count: number; pick: () => void; children: React.ReactNode }) {
  return (
    <button
      type="button"
      aria-pressed={on}
      className="grid w-full grid-cols-[56px_1fr] gap-2 px-1 text-left hover:bg-wash aria-pressed:bg-wash"
      onClick={pick}
    >
      <span className="text-right">{thousands(count)}</span>
      <span className="min-w-0 truncate">{children}</span>
    </button>
  );
}

const most = 3;

function Shares({
  title,
  field,
  list,
  q,
  pick,
}: {
  title: string;
  field: string;
  list: NonNullable<Plan["summary"]["departments"]>;
  q: string;
  pick: (q: string) => void;
}) {
  if (list.length === 0 || (list.length === 1 && list[0].name === "")) return null;
  return (
    <>
      <h2 className="sr-only">{title}</h2>
      {list.slice(0, most).map((d) => {
        const term = `${field}:"${d.name}"`;
        return (
          <Row key={d.name} on={q === term} count={d.count} pick={() => pick(q === term ? "" : term)}>
            <span title={d.name}>{d.name || `no ${field}`}</span>
          </Row>
        );
      })}
      {list.length > most && (
        <p className="px-1 text-soft">
          and {thousands(list.length - most)} more: search {field}:NAME
        </p>
      )}
    </>
  );
}

/** What a careful person reads first of a plan. */
export function PlanWarnings({ plan: p }: { plan: Plan }) {
  const lines = [
    ...(p.summary.unusual ?? []).map((u) => `unusual: ${u}`),
    ...p.lowered.map((l) => `a guard allows more than it did, sealing needs overrule: ${l}`),
    ...p.obstacles.map((o) => `in the way: ${o}`),
  ];
  const a = p.agreement;
  return (
    <>
      {lines.map((l) => (
        <p key={l} className="text-madder">
          <Glyph state="harm" /> {l}
        </p>
      ))}
      {a?.second && (
        <p>
          <Glyph state="contested" /> A second person seals it, not {a.makers.join(" or ")}: {a.second}.
        </p>
      )}
      {p.pausedAfter && p.state === "sealed" && (
        <p>
          <Glyph state="contested" /> Paused after wave {p.pausedAfter}: look at what it did, then go on.
        </p>
      )}
    </>
  );
}

/** What asked for a plan, where it is not the charter. */
export function origin(o: Plan["origin"]): string {
  switch (o.kind) {
    case "selection":
      return ", selected";
    case "action":
      return `, asked for (${o.verb}): ${o.reason}`;
    case "sheet":
      return `, of the sheet ${o.sheet}${o.reason ? `: ${o.reason}` : ""}`;
    case "undo":
      return `, to undo run ${o.run}: ${o.reason}`;
  }
  return "";
}
