import { Tabs } from "radix-ui";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { useAct, useCharter, useLane, useMay, usePlans, useTask, useVerdicts, useWeights, useWithheld } from "../data/queries";
import { AskFor } from "../ui/asking";
import { BalanceDrawing, BalanceTable } from "../ui/balance";
import { Glyph, StateWord } from "../ui/glyph";
import { GuardMeter } from "../ui/guard";
import { Id, List, Mark, useMarks } from "../ui/list";
import { Button, Empty, Head, Loading, many, Pick, Search, Trouble, thousands, When } from "../ui/parts";
import { origin } from "../ui/plansummary";
import { TriedCharter } from "../ui/tried";
import { Versions } from "../ui/versions";
import { Deliveries } from "./Deliveries";
import { Findings } from "./Findings";
import { Intentions } from "./Intentions";
import { changes } from "./Lanes";
import { Sheets } from "./Sheets";

export function LanePage() {
  const { lane = "" } = useParams();
  const view = useLane(lane);
  const go = useNavigate();
  const may = useMay();
  const [params, setParams] = useSearchParams();
  const [task, setTask] = useState<number>();
  const progress = useTask(task, (t) => {
    if (t.kind === "draft" && t.plan) go(`/plans/${t.plan}`);
  });
  const reconcile = useAct(
    () => ask(api.POST("/lanes/{lane}/reconciliations", { params: { path: { lane } } })),
    (t: Schemas["Task"]) => setTask(t.id),
  );
  const draft = useAct(
    () => ask(api.POST("/lanes/{lane}/plans", { params: { path: { lane } }, body: {} })),
    (begun) => ("hash" in begun ? go(`/plans/${begun.id}`) : setTask(begun.id)), // a plan of many changes is a task
  );
  const set = (next: Record<string, string>) => setParams({ ...Object.fromEntries(params), ...next }, { replace: "q" in next }); // a search is no step back
  if (view.isPending) return <Loading />;
  if (!view.data) return <Trouble error={view.error} />;
  const l = view.data;
  const latest = l.latest;
  const working = progress !== undefined && !progress.ended;
  return (
    <>
      <Head
        trail={[["/", "Lanes"]]}
        title={l.title || l.name}
        about={
          <>
            {l.title && <span className="font-mono">{l.name} </span>}
            <span className="text-larkspur">{l.authority}</span> → <span className="text-lichen">{l.downstream}</span>, charter{" "}
            {l.charterVersion}, reconciled <When at={latest?.at} />
            {l.observing && ", only observing"}
          </>
        }
      >
        {latest && latest.balance.people.contested + latest.balance.accounts.contested > 0 && (
          <Button onClick={() => go(`/lanes/${lane}/review`)}>
            <Glyph state="contested" /> Review who is contested
          </Button>
        )}
        <Button disabled={!may("work") || working || reconcile.isPending} onClick={() => reconcile.mutate(undefined)}>
          {working && progress.kind !== "draft" ? "Reconciling…" : "Reconcile"}
        </Button>
        <Button
          tone="main"
          disabled={!may("work") || working || draft.isPending || !latest || Object.keys(latest.changes).length === 0}
          onClick={() => draft.mutate(undefined)}
        >
          {working && progress.kind === "draft"
            ? `Drafting, ${thousands(progress.done)} of ${thousands(progress.total)} changes…`
            : latest
              ? `Draft a plan of ${many(
                  Object.values(latest.changes).reduce((a, b) => a + b, 0),
                  "change",
                )}`
              : "Draft a plan"}
        </Button>
      </Head>
      {(reconcile.error || draft.error) && <Trouble error={reconcile.error ?? draft.error} />}
      {progress?.state === "failed" && <Trouble error={progress.message} />}
      {!latest && (
        <Empty>
          <p>This lane has not been reconciled yet.</p>
          <p>Take a roster of both systems, then reconcile.</p>
        </Empty>
      )}
      {latest && (
        <>
          <section className="mb-4 grid grid-cols-[760px_1fr] gap-8">
            <BalanceDrawing
              balance={latest.balance}
              chosen={{ side: params.get("view") ?? "", state: params.get("state") ?? "" }}
              choose={(side, state) => setParams({ view: side, state })}
            />
            <div>
              <BalanceTable balance={latest.balance} />
              <p className="mt-2 text-soft">Would change: {changes(latest.changes)}</p>
              {latest.guards
                .filter((g) => g.tripped)
                .map((g) => (
                  <GuardMeter key={g.verb + g.message} guard={g} />
                ))}
              {Object.keys(latest.withheld).length > 0 && (
                <p className="text-madder">
                  <Glyph state="harm" /> withheld:{" "}
                  <button type="button" className="underline underline-offset-2" onClick={() => setParams({ view: "withheld" })}>
                    {changes(latest.withheld)}
                  </button>
                  , because something is not known
                </p>
              )}
            </div>
          </section>
          <Tabs.Root value={params.get("view") ?? "findings"} onValueChange={(v) => setParams({ view: v })}>
            <Tabs.List aria-label="lists" className="mb-2 flex items-center gap-4 border-hair border-b">
              {[
                "findings",
                "people",
                "accounts",
                ...(Object.keys(latest.withheld).length > 0 ? ["withheld"] : []),
                "intentions",
                "plans",
                "deliveries",
                "sheets",
                "charter",
              ].map((v) => (
                <Tabs.Trigger
                  key={v}
                  value={v}
                  className="py-1.5 text-soft capitalize data-[state=active]:border-ink data-[state=active]:border-b-2 data-[state=active]:text-ink"
                >
                  {v}
                </Tabs.Trigger>
              ))}
            </Tabs.List>
            <Tabs.Content value="findings">
              <Findings
                lane={lane}
                code={params.get("code") ?? ""}
                q={params.get("q") ?? ""}
                which={params.get("which") ?? ""}
                height={height}
                set={set}
              />
            </Tabs.Content>
            <Tabs.Content value="withheld">
              <Withheld lane={lane} on={Object.keys(latest.withheld).length > 0} />
            </Tabs.Content>
            <Tabs.Content value="people">
              <Records lane={lane} side="people" state={params.get("state") ?? ""} q={params.get("q") ?? ""} set={set} />
            </Tabs.Content>
            <Tabs.Content value="accounts">
              <Records lane={lane} side="accounts" state={params.get("state") ?? ""} q={params.get("q") ?? ""} set={set} />
            </Tabs.Content>
            <Tabs.Content value="intentions">
              <Intentions lane={lane} q={params.get("q") ?? ""} due={params.get("due") ?? ""} height={height} set={set} />
            </Tabs.Content>
            <Tabs.Content value="deliveries">
              <Deliveries lane={lane} q={params.get("q") ?? ""} height={height} set={set} />
            </Tabs.Content>
            <Tabs.Content value="plans">
              <Plans lane={lane} />
            </Tabs.Content>
            <Tabs.Content value="sheets">
              <Sheets lane={lane} />
            </Tabs.Content>
            <Tabs.Content value="charter">
              <WeightsTable lane={lane} />
              <p className="mb-3">
                <Link to={`/lanes/${lane}/trial`} className="underline underline-offset-2">
                  How true are its probabilities on these lists? Make a trial
                </Link>
              </p>
              <CharterText lane={lane} />
            </Tabs.Content>
          </Tabs.Root>
        </>
      )}
    </>
  );
}

type Filter = { lane: string; q: string; set: (next: Record<string, string>) => void };

const height = "max(300px, calc(100vh - 540px))";

const states = {
  people: ["twinned", "missing", "duplicate", "contested", "exempt"],
  accounts: ["twinned", "orphan", "duplicate", "contested", "exempt"],
};

function Records({ lane, side, state, q, set }: Filter & { side: "people" | "accounts"; state: string }) {
  const list = useVerdicts(lane, side, state, q);
  const go = useNavigate();
  const { rows, awaited } = list;
  const marks = useMarks();
  const ids = rows.filter((v) => marks.marked.has(v.id)).map((v) => v.id);
  return (
    <>
      <div className="mb-2 flex items-center gap-4">
        <Search label={`Search ${side}`} value={q} onChange={(v) => set({ q: v })} />
        <Pick
          label="state"
          value={state}
          onChange={(v) => set({ state: v })}
          options={[["", "all"], ...states[side].map((s) => [s, s] as [string, string])]}
        />
        <span className="text-soft">{awaited ? "reading…" : `${thousands(list.total)} records`}</span>
        <AskFor
          lane={lane}
          count={ids.length}
          what="account"
          whom={side === "people" ? { personIds: ids } : { accountIds: ids }}
          awaited={awaited}
        />
      </div>
      {list.error && !list.first && <Trouble error={list.error} />}
      {list.first && !awaited && rows.length === 0 ? (
        <Empty>Nobody is here.</Empty>
      ) : (
        <List
          label={side}
          height={height}
          rows={rows}
          rowKey={(v) => v.id}
          more={list.more}
          awaited={awaited}
          open={(v) => go(`/lanes/${lane}/why?${side === "people" ? "person" : "account"}=${encodeURIComponent(v.id)}`)}
          marked={marks.marked}
          mark={(v) => marks.flip(v.id)}
          columns={[
            {
              name: "marked",
              quiet: true,
              width: "16px",
              cell: (v) => <Mark on={marks.marked.has(v.id)} label={`mark ${v.label || v.id}`} change={() => marks.flip(v.id)} />,
            },
            { name: "state", width: "100px", cell: (v) => <StateWord state={v.state} /> },
            {
              name: side === "people" ? "person" : "account",
              width: "1.3fr",
              cell: (v) => (
                <>
                  <span className="font-medium">{v.label || "—"}</span> <Id>{v.id}</Id>
                </>
              ),
            },
            { name: side === "people" ? "number" : "login", width: "0.9fr", cell: (v) => <Id>{v.login}</Id> },
            {
              name: side === "people" ? "account" : "person",
              width: "1.3fr",
              cell: (v) =>
                v.twin && (
                  <>
                    <span>{v.twinLabel}</span> <Id>{v.twin}</Id>
                  </>
                ),
            },
            { name: "basis", width: "70px", cell: (v) => v.basis },
            { name: "note", width: "2fr", cell: (v) => <span className="text-soft">{v.note}</span> },
          ]}
        />
      )}
    </>
  );
}

function Plans({ lane }: { lane: string }) {
  const list = usePlans(lane);
  const go = useNavigate();
  if (!list.data) return <Loading />;
  if (list.data.items.length === 0) return <Empty>No plan has been drafted yet.</Empty>;
  return (
    <List
      label="plans"
      height={height}
      rows={list.data.items}
      rowKey={(p) => String(p.id)}
      open={(p) => go(`/plans/${p.id}`)}
      columns={[
        { name: "plan", width: "60px", right: true, cell: (p) => p.id },
        { name: "state", width: "100px", cell: (p) => p.state },
        { name: "changes", width: "2fr", cell: (p) => changes(p.verbs) },
        { name: "asked for", width: "1fr", cell: (p) => origin(p.origin).replace(/^, /, "") || "the charter" },
        { name: "drafted by", width: "0.7fr", cell: (p) => p.by },
        { name: "drafted", width: "120px", cell: (p) => <When at={p.created} /> },
        { name: "sealed by", width: "0.7fr", cell: (p) => p.sealedBy ?? "" },
      ]}
    />
  );
}

/** What evidence is worth here, where the charter weighs it. */
function WeightsTable({ lane }: { lane: string }) {
  const weights = useWeights(lane);
  if (!weights.data) return null;
  const w = weights.data;
  const share = (n: number) => `${(100 * n).toPrecision(3)} %`;
  return (
    <details className="mb-3">
      <summary className="py-1">
        Weights {w.version} of evidence, learnt from {thousands(w.learntFrom)} twins by {w.by} <When at={w.at} />
      </summary>
      <table className="border-hair border-y">
        <thead>
          <tr>
            <th className="pr-6">compared</th>
            <th className="pr-6">level</th>
            <th className="pr-6 text-right">of one human</th>
            <th className="pr-6 text-right">of two</th>
            <th className="text-right">bits</th>
          </tr>
        </thead>
        <tbody>
          {Object.entries(w.weights).flatMap(([comparator, levels]) =>
            Object.entries(levels)
              .sort((a, b) => b[1].bits - a[1].bits)
              .map(([level, o], i) => (
                <tr key={comparator + level} className={i === 0 ? "border-hair border-t" : ""}>
                  <td className="pr-6">{i === 0 ? comparator : ""}</td>
                  <td className="pr-6 text-soft">{level}</td>
                  <td className="pr-6 text-right">{share(o.same)}</td>
                  <td className="pr-6 text-right">{share(o.other)}</td>
                  <td className={`text-right ${o.bits < 0 ? "text-madder" : ""}`}>{o.bits.toFixed(1)}</td>
                </tr>
              )),
          )}
        </tbody>
      </table>
    </details>
  );
}

function CharterText({ lane }: { lane: string }) {
  const charter = useCharter(lane);
  if (!charter.data) return <Loading />;
  return (
    <>
      {charter.data.notes.map((n) => (
        <p key={n.line + n.message} className="text-soft">
          line {n.line}: {n.message}
        </p>
      ))}
      <TriedCharter key={charter.data.version} lane={lane} source={charter.data.source} />
      <Versions lane={lane} newest={charter.data.version} />
    </>
  );
}

/** Changes that are not drafted, each with what is not known. */
function Withheld({ lane, on }: { lane: string; on: boolean }) {
  const list = useWithheld(lane, on);
  return (
    <>
      {list.error && !list.first && <Trouble error={list.error} />}
      <List
        label="withheld changes"
        rows={list.rows}
        rowKey={(w) => `${w.verb} ${w.person ?? ""} ${w.account ?? ""}`}
        more={list.more}
        columns={[
          { name: "verb", width: "90px", cell: (w) => w.verb },
          {
            name: "whose",
            width: "280px",
            cell: (w) => (
              <>
                {w.label}{" "}
                <Id>
                  {w.person ?? ""} ┊ {w.account ?? ""}
                </Id>
              </>
            ),
          },
          { name: "why it is not drafted", width: "1fr", cell: (w) => w.reason },
        ]}
      />
    </>
  );
}
