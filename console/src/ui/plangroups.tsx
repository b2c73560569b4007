import { useState } from "react";
import { type Field, useCounts } from "../data/queries";
import { List } from "./list";
import { Empty, Loading, Pick, Trouble, thousands } from "./parts";

const fields: [Field, string][] = [
  ["department", "department"],
  ["verb", "verb"],
  ["attribute", "what is written first"],
  ["reason", "reason"],
  ["class", "class"],
  ["wave", "wave"],
  ["unit", "unit"],
  ["aside", "set aside"],
  ["outcome", "outcome"],
  ["account", "account"],
];

/** A plan's changes counted by whatever they have in common; a group opens as the list of its changes. */
export function Groups({ plan, q, height, pick }: { plan: number; q: string; height: string; pick: (term: string) => void }) {
  const [by, setBy] = useState<Field>("department");
  const list = useCounts(plan, by, q);
  const most = list.data?.items[0]?.count ?? 1;
  return (
    <>
      <div className="mb-2 flex items-center gap-3">
        <Pick label="by" value={by} onChange={(v) => setBy(v as Field)} options={fields} />
        {q && <span className="text-soft">only {q}</span>}
      </div>
      {list.error && !list.data && <Trouble error={list.error} />}
      {list.isPending && <Loading />}
      {list.data?.items.length === 0 && <Empty>No change matches.</Empty>}
      {list.data && list.data.items.length > 0 && (
        <List
          label="groups"
          height={height}
          rows={list.data.items}
          rowKey={(g) => g.value}
          open={(g) => pick(`${by}:${g.value ? `"${g.value.replaceAll('"', "")}"` : ""}`)}
          columns={[
            { name: "changes", width: "90px", right: true, cell: (g) => thousands(g.count) },
            {
              name: "share",
              quiet: true,
              width: "220px",
              cell: (g) => (
                <svg viewBox="0 0 200 8" className="h-2 w-[200px] text-larkspur" aria-hidden="true">
                  <rect width={Math.max(1, (200 * g.count) / most)} height="8" fill="currentColor" />
                </svg>
              ),
            },
            { name: by, width: "1fr", cell: (g) => g.value || <span className="text-soft">none</span> },
          ]}
        />
      )}
    </>
  );
}
