import { useState } from "react";
import { useParams, useSearchParams } from "react-router";
import {
  type Kind,
  useComparison,
  useHistory,
  useLeftOut,
  useRecords,
  useRejections,
  useRoster,
  useRosters,
  useStatistics,
} from "../data/queries";
import { Id, List } from "../ui/list";
import { Button, Empty, Head, Loading, Search, Select, Tabs, Trouble, thousands, When } from "../ui/parts";
import { Value } from "../ui/value";

type Tab = "comparison" | "attributes" | "records" | "rejected" | "left-out";

export function RosterPage() {
  const id = Number(useParams().roster);
  const view = useRoster(id);
  const [params, setParams] = useSearchParams();
  const tab = (params.get("tab") ?? "comparison") as Tab;
  if (view.isPending) return <Loading />;
  if (!view.data) return <Trouble error={view.error} />;
  const r = view.data;
  return (
    <>
      <Head
        trail={[
          ["/systems", "Systems"],
          [`/systems/${r.system}`, r.system],
        ]}
        title={`Roster ${r.id}${r.name ? `: ${r.name}` : ""}`}
        about={
          <>
            {thousands(r.records)} records, taken <When at={r.ended ?? r.started} /> ({r.extent}
            {r.scope && `; ${r.scope}`})
          </>
        }
      >
        {(["csv", "xlsx", "jsonl"] as const).map((f) => (
          <a
            key={f}
            href={`/v1/rosters/${id}/export?format=${f}&people=${f !== "jsonl"}`}
            download
            className="underline decoration-hair underline-offset-2"
          >
            Export {f}
          </a>
        ))}
      </Head>
      <Tabs<Tab>
        label="roster"
        value={tab}
        onChange={(t) => setParams({ tab: t })}
        items={[
          ["comparison", "What changed"],
          ["attributes", "Attributes"],
          ["records", `Records ${thousands(r.records)}`],
          ["rejected", `Not readable ${thousands(r.rejected)}`],
          ["left-out", `Left out ${thousands(r.leftOut)}`],
        ]}
      >
        {tab === "comparison" && <Changes roster={id} system={r.system} />}
        {tab === "attributes" && <Attributes roster={id} />}
        {tab === "records" && <Records roster={id} system={r.system} />}
        {tab === "rejected" && <Rejected roster={id} />}
        {tab === "left-out" && <LeftOut roster={id} />}
      </Tabs>
    </>
  );
}

const kinds: [Kind, string, string][] = [
  ["came", "+", "text-larkspur"],
  ["went", "−", "text-madder"],
  ["changed", "Δ", ""],
];

function Changes({ roster, system }: { roster: number; system: string }) {
  const [older, setOlder] = useState<number>();
  const [kind, setKind] = useState<Kind>();
  const [attribute, setAttribute] = useState("");
  const only = (k: Kind | undefined, a: string) => {
    setKind(k);
    setAttribute(a);
  };
  const list = useComparison(roster, older, kind, attribute);
  const rosters = useRosters(system);
  if (list.isPending) return <Loading />;
  if (!list.first) return <Trouble error={list.error} />;
  const c = list.first;
  const items = list.rows;
  return (
    <>
      <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-1">
        <span>
          since{" "}
          <Select label="the older roster" value={String(c.older.id)} onChange={(v) => setOlder(Number(v))}>
            {rosters.data?.items
              .filter((r) => r.state === "taken" && r.id < roster)
              .map((r) => (
                <option key={r.id} value={r.id}>
                  roster {r.id}
                  {r.name ? `: ${r.name}` : ""}
                </option>
              ))}
          </Select>{" "}
          <span className="text-soft">
            <When at={c.older.ended ?? c.older.started} />, {thousands(c.older.records)} records
          </span>
        </span>
        {kinds.map(([k, glyph, tone]) => (
          <Button
            key={k}
            aria-pressed={kind === k}
            className={kind === k ? "border-ink" : ""}
            onClick={() => only(kind === k ? undefined : k, "")}
          >
            <span className={tone}>{glyph}</span> {thousands(c[k])} {k}
          </Button>
        ))}
        {c.attributes.length > 0 && (
          <Select label="changed in" value={attribute} onChange={(v) => only(undefined, v)}>
            <option value="">in any attribute</option>
            {c.attributes.map((a) => (
              <option key={a.value} value={a.value}>
                {a.value} ({thousands(a.count)})
              </option>
            ))}
          </Select>
        )}
      </div>
      {items.length === 0 && <Empty>Nobody{kind ? ` ${kind}` : " came, went or changed"} between the two.</Empty>}
      {items.length > 0 && (
        <List
          label="changes between two rosters"
          rows={items}
          rowKey={(d) => d.id}
          more={list.more}
          awaited={list.awaited}
          columns={[
            {
              name: "what",
              width: "90px",
              cell: (d) => {
                const [, glyph, tone] = kinds.find(([k]) => k === d.kind) ?? kinds[2];
                return (
                  <span className={tone}>
                    {glyph} {d.kind}
                  </span>
                );
              },
            },
            { name: "id", width: "130px", cell: (d) => <Id>{d.id}</Id> },
            { name: "who", width: "1fr", cell: (d) => d.label },
            {
              name: "attribute, old → new",
              width: "2.4fr",
              cell: (d) =>
                d.kind === "changed" &&
                d.attributes.map((a) => (
                  <span key={a.attribute} className="block">
                    <span className="text-soft">{a.attribute}</span>{" "}
                    {a.old.length > 0 ? (
                      <del>
                        <Value>{a.old.join("; ")}</Value>
                      </del>
                    ) : (
                      <span className="text-soft">empty</span>
                    )}{" "}
                    →{" "}
                    {a.new.length > 0 ? (
                      <ins>
                        <Value>{a.new.join("; ")}</Value>
                      </ins>
                    ) : (
                      <span className="text-soft">empty</span>
                    )}
                  </span>
                )),
            },
          ]}
        />
      )}
    </>
  );
}

function Attributes({ roster }: { roster: number }) {
  const view = useStatistics(roster);
  if (view.isPending) return <Loading />;
  if (!view.data) return <Trouble error={view.error} />;
  const share = (part: number, whole: number) => (whole ? `${Math.floor((part * 100) / whole)} %` : "");
  const n = view.data.records;
  return (
    <List
      label="attributes"
      rows={view.data.attributes}
      rowKey={(a) => a.attribute}
      columns={[
        { name: "attribute", width: "140px", cell: (a) => <span className="font-medium">{a.attribute}</span> },
        { name: "from", width: "150px", cell: (a) => <Id>{a.native}</Id> },
        {
          name: "filled",
          width: "150px",
          right: true,
          cell: (a) => (
            <span className="flex items-center justify-end gap-2">
              <meter className="h-2 w-16" min={0} max={Math.max(n, 1)} value={a.filled} aria-label={`${a.attribute} is filled in`} />
              {thousands(a.filled)} <span className="w-12 text-soft">{share(a.filled, n)}</span>
            </span>
          ),
        },
        { name: "distinct", width: "80px", right: true, cell: (a) => thousands(a.distinct) },
        { name: "of filled", width: "70px", right: true, cell: (a) => share(a.distinct, a.filled) },
        { name: "changed", width: "70px", right: true, cell: (a) => thousands(a.changed) },
        {
          name: "most frequent",
          width: "1fr",
          cell: (a) => <span className="text-soft">{a.top.map((t) => `${t.value} (${thousands(t.count)})`).join(", ")}</span>,
        },
      ]}
    />
  );
}

const values = (v: Record<string, string[]>) =>
  Object.entries(v).map(([k, list]) => (
    <span key={k} className="mr-3 inline-block">
      <span className="text-soft">{k}</span> <Value>{list.join("; ")}</Value>
    </span>
  ));

function Records({ roster, system }: { roster: number; system: string }) {
  const [q, setQ] = useState("");
  const [id, setId] = useState<string>();
  const list = useRecords(roster, q);
  const history = useHistory(system, id);
  return (
    <>
      <div className="mb-2 flex items-center gap-3">
        <Search label="find a record" value={q} onChange={setQ} />
        <span className="text-soft">Open one to see it through time.</span>
      </div>
      {list.isPending && <Loading />}
      {list.error && !list.first && <Trouble error={list.error} />}
      {list.first && (
        <List
          label="records"
          height={id ? "45vh" : undefined}
          rows={list.rows}
          awaited={list.awaited}
          rowKey={(r) => r.id}
          open={(r) => setId(r.id)}
          more={list.more}
          columns={[
            { name: "id", width: "150px", cell: (r) => <Id>{r.id}</Id> },
            { name: "values", width: "1fr", cell: (r) => values(r.values) },
          ]}
        />
      )}
      {id && history.data && (
        <section className="mt-3" aria-label="history">
          <h2>{id} through time</h2>
          {history.data.versions.map((v) => (
            <p key={v.sinceRoster} className="grid grid-cols-[190px_1fr] gap-x-3 border-hair border-b py-1">
              <span className="text-soft">
                <When at={v.since} /> – {v.until ? <When at={v.until} /> : "now"}
              </span>
              <span>{values(v.values)}</span>
            </p>
          ))}
        </section>
      )}
    </>
  );
}

function Rejected({ roster }: { roster: number }) {
  const view = useRejections(roster);
  if (view.isPending) return <Loading />;
  if (!view.data) return <Trouble error={view.error} />;
  if (view.data.items.length === 0) return <Empty>Every record was understood.</Empty>;
  return (
    <List
      label="rejected records"
      rows={view.data.items}
      rowKey={(r) => `${r.line} ${r.id ?? ""} ${r.reason}`}
      columns={[
        { name: "line", width: "60px", right: true, cell: (r) => r.line || "–" },
        { name: "column", width: "140px", cell: (r) => r.column },
        { name: "id", width: "140px", cell: (r) => <Id>{r.id ?? "not readable"}</Id> },
        { name: "why", width: "1fr", cell: (r) => r.reason },
      ]}
    />
  );
}

function LeftOut({ roster }: { roster: number }) {
  const view = useLeftOut(roster);
  if (view.isPending) return <Loading />;
  if (!view.data) return <Trouble error={view.error} />;
  if (view.data.items.length === 0) return <Empty>Nothing in the scope was left out.</Empty>;
  return (
    <>
      <ul className="mb-2">
        {view.data.reasons.map((r) => (
          <li key={r.reason}>
            {thousands(r.count)}: {r.reason}
          </li>
        ))}
      </ul>
      <List
        label="left out"
        rows={view.data.items}
        rowKey={(l) => `${l.reason} ${l.what}`}
        columns={[
          { name: "left out", width: "1fr", cell: (l) => <Id>{l.what}</Id> },
          { name: "why", width: "2fr", cell: (l) => l.reason },
        ]}
      />
    </>
  );
}
