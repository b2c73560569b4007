import type { Plan, Schemas } from "../data/client";
import { useMoves, usePlanComparison, usePlans } from "../data/queries";
import { Verb } from "./change";
import { Id, List } from "./list";
import { Empty, Loading, Pick, Trouble, thousands } from "./parts";
import { Value } from "./value";

/** Of the logins and addresses that a plan moves, who gives what to whom. */
export function Moves({ plan, height }: { plan: number; height: string }) {
  const list = useMoves(plan, true);
  if (list.error) return <Trouble error={list.error} />;
  if (!list.data) return <Loading />;
  if (list.data.items.length === 0) return <Empty>No login and no address of an account that is there changes.</Empty>;
  return (
    <List
      label="names"
      height={height}
      rows={list.data.items}
      rowKey={(m) => m.name}
      columns={[
        {
          name: "name",
          width: "1.2fr",
          cell: (m) => (
            <span className="font-mono text-[12px]">
              <Value>{m.name}</Value>
            </span>
          ),
        },
        { name: "from", width: "1fr", cell: (m) => <Holder at={m.from} /> },
        { name: "to", width: "1fr", cell: (m) => <Holder at={m.to} /> },
      ]}
    />
  );
}

function Holder({ at }: { at?: Schemas["NameAt"] }) {
  if (!at) return <span className="text-soft">nobody</span>;
  return (
    <>
      {at.label} <Id>{at.account ?? at.person}</Id> <span className="text-soft">{at.attribute}</span>
    </>
  );
}

/** A plan beside another one of its lane: only what they do not have alike. */
export function Compared({
  plan: p,
  other,
  choose,
  height,
}: {
  plan: Plan;
  other?: number;
  choose: (plan?: number) => void;
  height: string;
}) {
  const plans = usePlans(p.lane);
  const list = usePlanComparison(p.id, other);
  const { rows, awaited } = list;
  return (
    <>
      <div className="mb-2 flex items-center gap-3">
        <Pick
          label="beside plan"
          value={other === undefined ? "" : String(other)}
          onChange={(v) => choose(v ? Number(v) : undefined)}
          options={[
            ["", "choose one"],
            ...(plans.data?.items ?? [])
              .filter((x) => x.id !== p.id)
              .map((x) => [String(x.id), `${x.id}, ${x.state}, ${thousands(x.total)} changes`] as [string, string]),
          ]}
        />
        {list.first && !awaited && <span className="text-soft">{thousands(list.total)} differ</span>}
      </div>
      {list.error && <Trouble error={list.error} />}
      {list.first && !awaited && rows.length === 0 && <Empty>The two plans want the same.</Empty>}
      {rows.length > 0 && (
        <List
          label="what differs"
          height={height}
          rows={rows}
          rowKey={(d) => d.change}
          more={list.more}
          awaited={awaited}
          columns={[
            { name: "verb", width: "84px", cell: (d) => <Verb verb={d.verb} /> },
            {
              name: "whose",
              width: "250px",
              cell: (d) => (
                <>
                  {d.label} <Id>{d.account ?? d.person}</Id>
                </>
              ),
            },
            { name: `plan ${p.id}`, width: "1fr", cell: (d) => <Wants edits={d.here} /> },
            { name: `plan ${other}`, width: "1fr", cell: (d) => <Wants edits={d.there} /> },
          ]}
        />
      )}
    </>
  );
}

function Wants({ edits }: { edits: Schemas["WantedEdit"][] | null }) {
  if (!edits) return <span className="text-soft">not in it</span>;
  return (
    <>
      {edits.map((e) => (
        <span key={e.attribute} className="block">
          <span className="text-soft">{e.attribute}</span> → <Value>{e.new.replaceAll("\u001f", "; ") || "—"}</Value>
        </span>
      ))}
    </>
  );
}
