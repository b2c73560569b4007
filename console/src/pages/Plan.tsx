import { useState } from "react";
import { useParams } from "react-router";
import { api, ask, type Change, type Plan, type Schemas } from "../data/client";
import { useAct, useChanges, useMay, usePlan, useRun, useTask } from "../data/queries";
import { Confirm } from "../ui/confirm";
import { Glyph } from "../ui/glyph";
import { GuardMeter } from "../ui/guard";
import { Id, List } from "../ui/list";
import { Button, Empty, Head, Loading, Progress, Search, Trouble, thousands, When } from "../ui/parts";

export function PlanPage() {
  const id = Number(useParams().plan);
  const plan = usePlan(id);
  const run = useRun(plan.data?.run);
  const task = useTask(run.data && !run.data.ended ? run.data.task : undefined);
  const [check, setCheck] = useState<number>();
  const checking = useTask(check);
  const [verb, setVerb] = useState("");
  const [outcome, setOutcome] = useState("");
  const [q, setQ] = useState("");
  const live = plan.data?.state === "running" || (checking !== undefined && !checking.ended);
  const list = useChanges(id, verb, outcome, q, live);
  if (plan.isPending) return <Loading />;
  if (!plan.data) return <Trouble error={plan.error} />;
  const p = plan.data;
  const rows = list.data?.pages.flatMap((x) => x.items) ?? [];
  return (
    <>
      <Head
        trail={[
          ["/", "Lanes"],
          [`/lanes/${p.lane}`, p.lane],
        ]}
        title={`Plan ${p.id}: ${thousands(p.total)} changes`}
        about={
          <>
            {p.state}, drafted by {p.by} <When at={p.created} />
            {p.weightsVersion !== undefined && `, evidence by weights ${p.weightsVersion}`}
            {p.sealedBy && <>, sealed by {p.sealedBy}</>}
            {p.overruled && <span className="text-madder">, a guard was overruled: {p.overruled}</span>}
          </>
        }
      >
        <Acts plan={p} run={run.data} verified={(t) => setCheck(t)} />
      </Head>
      {p.lowered.map((l) => (
        <p key={l} className="text-madder">
          <Glyph state="harm" /> a guard was lowered since the last plan, sealing needs overrule: {l}
        </p>
      ))}
      {p.obstacles.map((o) => (
        <p key={o} className="text-madder">
          <Glyph state="harm" /> in the way: {o}
        </p>
      ))}
      <section className="mb-3 grid grid-cols-[300px_1fr] gap-8 border-hair border-y py-2">
        <div>
          <h2 className="sr-only">By verb</h2>
          {Object.entries(p.verbs).map(([v, n]) => (
            <button
              key={v}
              type="button"
              aria-pressed={verb === v}
              className="grid w-full grid-cols-[70px_1fr] gap-2 px-1 text-left hover:bg-wash aria-pressed:bg-wash"
              onClick={() => setVerb(verb === v ? "" : v)}
            >
              <span className="text-right">{thousands(n)}</span>
              <span className={v === "suspend" ? "text-madder" : ""}>
                {harmful.includes(v) && <Glyph state="harm" />} {v}
              </span>
            </button>
          ))}
          {p.waves.length > 1 && <p className="mt-1 text-soft">waves: {p.waves.map((w) => `${w.name} (${w.changes})`).join(", then ")}</p>}
        </div>
        <div className="space-y-1">
          <h2 className="sr-only">Guards</h2>
          {p.guards
            .filter((g) => g.tripped || g.count + g.pending + g.recent > 0)
            .map((g) => (
              <GuardMeter key={g.verb + g.message} guard={g} />
            ))}
          {task && !task.ended && <Progress done={task.done} total={task.total} label={task.message || "running"} />}
          {checking && !checking.ended && <Progress done={checking.done} total={checking.total} label="reading back" />}
          {run.data && <RunSummary run={run.data} pick={setOutcome} />}
        </div>
      </section>
      <div className="mb-2 flex items-center gap-3">
        <Search label="Search changes" value={q} onChange={setQ} />
        <span className="text-soft">
          {thousands(list.data?.pages[0]?.total ?? 0)} shown{verb && `, only ${verb}`}
          {outcome && `, only ${outcome}`}
        </span>
        {(verb || outcome) && (
          <Button
            onClick={() => {
              setVerb("");
              setOutcome("");
            }}
          >
            Show all
          </Button>
        )}
      </div>
      {list.error && !list.data && <Trouble error={list.error} />}
      {list.data && rows.length === 0 ? (
        <Empty>No change matches.</Empty>
      ) : (
        <List
          label="changes"
          height="max(320px, calc(100vh - 400px))"
          rows={rows}
          rowKey={(c) => c.id}
          more={list.hasNextPage ? list.fetchNextPage : undefined}
          columns={[
            {
              name: "verb",
              width: "90px",
              cell: (c) => (
                <span className={harmful.includes(c.verb) ? "text-madder" : "font-medium"}>
                  {harmful.includes(c.verb) && <Glyph state="harm" />} {c.verb}
                </span>
              ),
            },
            {
              name: "whose",
              width: "210px",
              cell: (c) => (
                <>
                  <span>{c.label}</span>{" "}
                  <Id>
                    {c.person ?? ""} ┊ {c.account ?? ""}
                  </Id>
                  {c.unit && (
                    <span
                      className="whitespace-nowrap text-soft"
                      title="Changes of one unit (names that pass on, a change of class) are done together."
                    >
                      {" "}
                      as one
                    </span>
                  )}
                </>
              ),
            },
            { name: "old → new", width: "1fr", cell: (c) => <Edits change={c} /> },
            {
              name: "reason",
              width: "250px",
              cell: (c) => <span className="text-soft">{[...new Set(c.edits.map((e) => e.reason))].join("; ")}</span>,
            },
            { name: "wave", width: "80px", cell: (c) => c.wave },
            { name: "outcome", width: "150px", cell: (c) => <Outcome change={c} /> },
          ]}
        />
      )}
    </>
  );
}

function Edits({ change }: { change: Change }) {
  return (
    <>
      {change.edits.map((e) => (
        <span key={e.attribute} className="block">
          <span className="text-soft">{e.attribute}</span>{" "}
          {e.old.length > 0 ? <del>{e.old.join("; ")}</del> : <span className="text-soft">—</span>} →{" "}
          {e.new.length > 0 ? <ins>{e.new.join("; ")}</ins> : "—"}
        </span>
      ))}
    </>
  );
}

function Outcome({ change: c }: { change: Change }) {
  if (!c.outcome) return null;
  const good = c.outcome === "done" || c.outcome === "unchanged";
  return (
    <span data-state={c.outcome} className={good ? "" : "text-madder"}>
      {!good && <Glyph state="harm" />} {c.outcome}
      {c.verified && <span className="text-soft">, {c.verified}</span>}
      {c.detail && !good && <span className="block text-[12px]">{c.detail}</span>}
    </span>
  );
}

function RunSummary({ run, pick }: { run: Schemas["Run"]; pick: (o: string) => void }) {
  return (
    <p aria-live="polite">
      Run {run.id} {run.state}
      {run.message && `: ${run.message}`}
      {Object.entries(run.outcomes).map(([o, n]) => (
        <button key={o} type="button" className="ml-3 underline decoration-hair underline-offset-2" onClick={() => pick(o)}>
          {thousands(n)} {o}
        </button>
      ))}
      {Object.entries(run.verified).map(([o, n]) => (
        <span key={o} className="ml-3 font-medium">
          {thousands(n)} {o}
        </span>
      ))}
    </p>
  );
}

/** The verbs that take something from somebody. */
const harmful = ["suspend", "delete"];

/** Says what a plan takes, before it is agreed to. */
function Harm({ verbs }: { verbs: Record<string, number> }) {
  return (
    <>
      {verbs.suspend > 0 && (
        <p className="text-madder">{thousands(verbs.suspend)} people will not be able to sign in any more once it is run.</p>
      )}
      {verbs.delete > 0 && (
        <p className="text-madder">{thousands(verbs.delete)} accounts will be deleted once it is run, for good: that can't be undone.</p>
      )}
    </>
  );
}

function Acts({ plan: p, run, verified }: { plan: Plan; run?: Schemas["Run"]; verified: (task: number) => void }) {
  const may = useMay();
  const path = { params: { path: { plan: p.id } } };
  const seal = useAct((overrule: string) =>
    ask(api.POST("/plans/{plan}/seal", { ...path, body: { hash: p.hash, overrule: overrule || undefined } })),
  );
  const start = useAct(() => ask(api.POST("/plans/{plan}/runs", { ...path, body: { hash: p.hash } })));
  const halt = useAct(() => ask(api.POST("/runs/{run}/halt", { params: { path: { run: p.run ?? 0 } } })));
  const verify = useAct(
    () => ask(api.POST("/runs/{run}/verification", { params: { path: { run: p.run ?? 0 } } })),
    (t: Schemas["Task"]) => verified(t.id),
  );
  const drop = useAct(() => ask(api.POST("/plans/{plan}/void", path)));
  const error = start.error ?? halt.error ?? verify.error ?? drop.error;
  const harm = harmful.some((v) => (p.verbs[v] ?? 0) > 0);
  return (
    <>
      {error && <Trouble error={error} />}
      {(p.state === "draft" || p.state === "sealed" || p.state === "halted") && (
        <Button disabled={!may("work")} onClick={() => drop.mutate(undefined)}>
          Give the plan up
        </Button>
      )}
      {p.state === "draft" && (
        <Confirm
          trigger={
            <Button tone="main" disabled={!may("seal") || p.obstacles.length > 0 || (p.stopped && !may("overrule"))}>
              Seal {thousands(p.total)} changes
            </Button>
          }
          title={`Seal ${thousands(p.total)} changes`}
          act={`Seal ${thousands(p.total)} changes`}
          tone={p.stopped ? "harm" : "main"}
          reason={p.stopped ? "A guard stops this plan, or was lowered. Why may it be sealed all the same?" : undefined}
          count={p.total}
          busy={seal.isPending}
          error={seal.error}
          confirm={(reason) => seal.mutate(reason)}
        >
          <p>You approve exactly what you see here, by its hash. Nothing is written yet.</p>
          <Harm verbs={p.verbs} />
        </Confirm>
      )}
      {(p.state === "sealed" || p.state === "halted") && (
        <Confirm
          trigger={
            <Button tone={harm ? "harm" : "main"} disabled={!may("seal") || p.obstacles.length > 0}>
              {p.state === "halted" ? "Go on with the run" : `Run ${thousands(p.total)} changes`}
            </Button>
          }
          title={`Run plan ${p.id}`}
          act={`Run ${thousands(p.total)} changes`}
          tone={harm ? "harm" : "main"}
          count={p.total}
          busy={start.isPending}
          error={start.error}
          confirm={() => start.mutate(undefined)}
        >
          <p>Every account is read before it is written; what has changed since is left alone.</p>
          <Harm verbs={p.verbs} />
        </Confirm>
      )}
      {p.state === "running" && (
        <Button tone="harm" onClick={() => halt.mutate(undefined)}>
          Halt after this change
        </Button>
      )}
      {run?.ended && (
        <Button
          tone={Object.keys(run.verified).length === 0 ? "main" : "plain"}
          disabled={!may("work") || verify.isPending}
          onClick={() => verify.mutate(undefined)}
        >
          Read every account again
        </Button>
      )}
    </>
  );
}
