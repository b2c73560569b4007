import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, ask, type Change, decideBySheet, type Plan, type Schemas } from "../data/client";
import { changedPlan } from "../data/differences";
import { useAct, useChanges, useKindBelow, useMay, useMe, usePlan, useRun, useTask } from "../data/queries";
import { Edits, harmful, Outcome, ReceiptOf, Verb } from "../ui/change";
import { Confirm } from "../ui/confirm";
import { DropFile } from "../ui/dropfile";
import { GuardMeter } from "../ui/guard";
import { Id, List, Mark, useMarks } from "../ui/list";
import { Button, Empty, Head, Loading, many, Progress, Search, Tabs, Trouble, thousands, When } from "../ui/parts";
import { Groups } from "../ui/plangroups";
import { Compared, Moves } from "../ui/planlooks";
import { Comments, Refusals } from "../ui/plannotes";
import { origin, PlanSummary, PlanWarnings } from "../ui/plansummary";

/** A plan: looked at as a whole, then change by change; agreed to, run, read back, undone. */
export function PlanPage() {
  const id = Number(useParams().plan);
  const plan = usePlan(id);
  const run = useRun(plan.data?.run);
  const task = useTask(run.data && !run.data.ended ? run.data.task : undefined);
  const [check, setCheck] = useState<number>();
  const checking = useTask(check);
  const ldap = useKindBelow(plan.data?.lane ?? "").data === "ldap";
  const [verb, setVerb] = useState("");
  const [outcome, setOutcome] = useState("");
  const [q, setQ] = useState("");
  const [shown, setShown] = useState<Change>();
  const [look, setLook] = useState<"changes" | "groups" | "names" | "compared">("changes");
  const [other, setOther] = useState<number>();
  const marks = useMarks();
  const live = plan.data?.state === "running" || (checking !== undefined && !checking.ended);
  const list = useChanges(id, verb, outcome, q, live);
  if (plan.isPending) return <Loading />;
  if (!plan.data) return <Trouble error={plan.error} />;
  const p = plan.data;
  const { rows, awaited } = list;
  const marked = rows.filter((c) => marks.marked.has(c.id));
  const draft = p.state === "draft";
  return (
    <>
      <Head
        trail={[
          ["/", "Lanes"],
          [`/lanes/${p.lane}`, p.lane],
        ]}
        title={`Plan ${p.id}: ${many(p.total, "change")}${origin(p.origin)}`}
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
      <PlanWarnings plan={p} />
      <section className="mb-2 grid grid-cols-[520px_1fr] gap-8 border-hair border-y py-2">
        <PlanSummary
          key={String(draft)}
          plan={p}
          verb={verb}
          q={q}
          pick={(v, next) => {
            setVerb(v);
            setQ(next);
          }}
        />
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
      <Refusals plan={p} />
      <Tabs
        label="how the plan is looked at"
        value={look}
        onChange={setLook}
        items={[
          ["changes", "Change by change"],
          ["groups", "In groups"],
          ["names", "By address"],
          ["compared", "Beside another plan"],
        ]}
      >
        {look === "groups" && (
          <Groups
            plan={p.id}
            q={q}
            height={height}
            pick={(term) => {
              setQ(q === "" ? term : `${q} ${term}`);
              setLook("changes");
            }}
          />
        )}
        {look === "names" && <Moves plan={p.id} height={height} />}
        {look === "compared" && <Compared plan={p} other={other} choose={setOther} height={height} />}
        {look === "changes" && (
          <>
            <div className="mb-2 flex items-center gap-3">
              <Search label="Search changes" value={q} onChange={setQ} />
              <span className="text-soft">
                {awaited ? "reading…" : `${thousands(list.total)} shown`}
                {verb && `, only ${verb}`}
                {outcome && `, only ${outcome}`}
              </span>
              {(verb || outcome || q) && (
                <Button
                  onClick={() => {
                    setVerb("");
                    setOutcome("");
                    setQ("");
                  }}
                >
                  Show all
                </Button>
              )}
              {draft && <Decide plan={p} marked={marked} awaited={awaited} done={marks.clear} />}
              <span className="ml-auto flex items-center gap-2">
                <a
                  className="underline decoration-hair underline-offset-2"
                  href={`/v1/plans/${p.id}/file?format=xlsx`}
                  download={`plan-${p.id}.xlsx`}
                >
                  As a sheet
                </a>
                {ldap && !["finished", "void"].includes(p.state) && (
                  <a
                    className="underline decoration-hair underline-offset-2"
                    href={`/v1/plans/${p.id}/file?format=ldif`}
                    download={`plan-${p.id}.ldif`}
                  >
                    As LDIF
                  </a>
                )}
                {draft && <Sheet plan={p} />}
              </span>
            </div>
            <Comments plan={p.id} about={marked.length === 1 ? marked[0] : undefined} changes={rows} />
            {list.error && !list.first && <Trouble error={list.error} />}
            {list.first && !awaited && rows.length === 0 ? (
              <Empty>No change matches.</Empty>
            ) : (
              <List
                label="changes"
                height={height}
                rows={rows}
                rowKey={(c) => c.id}
                more={list.more}
                awaited={awaited}
                open={setShown}
                marked={marks.marked}
                mark={(c) => marks.flip(c.id)}
                columns={[
                  {
                    name: "marked",
                    quiet: true,
                    width: "16px",
                    cell: (c) => <Mark on={marks.marked.has(c.id)} label={`mark ${c.verb} ${c.label}`} change={() => marks.flip(c.id)} />,
                  },
                  { name: "verb", width: "84px", cell: (c) => <Verb verb={c.verb} /> },
                  {
                    name: "whose",
                    width: "250px",
                    cell: (c) => (
                      <span className={c.setAside ? "text-soft" : ""}>
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
                      </span>
                    ),
                  },
                  { name: "old → new", width: "1fr", cell: (c) => <Edits edits={c.edits} /> },
                  {
                    name: "reason",
                    width: "215px",
                    cell: (c) => <span className="text-soft">{[...new Set(c.edits.map((e) => e.reason))].join("; ")}</span>,
                  },
                  { name: "wave", width: "76px", cell: (c) => c.wave },
                  { name: "outcome", width: "130px", cell: (c) => <Outcome change={c} /> },
                ]}
              />
            )}
          </>
        )}
      </Tabs>
      <ReceiptOf change={shown} run={p.run} close={() => setShown(undefined)} />
    </>
  );
}

const height = "max(320px, calc(100vh - 395px))";

/** Changes that are marked, with the plan that they are of. */
type Marked = { plan: Plan; changes: Change[] };

/** Sets marked changes of a draft aside, or includes them again. */
function Decide({ plan: p, marked, awaited, done }: { plan: Plan; marked: Change[]; awaited: boolean; done: () => void }) {
  const may = useMay();
  const send = (decision: "set-aside" | "include") => (about: { of: Marked; reason?: string }) =>
    ask(
      api.POST("/plans/{plan}/decisions", {
        params: { path: { plan: about.of.plan.id } },
        body: { hash: about.of.plan.hash, changeIds: about.of.changes.map((c) => c.id), decision, reason: about.reason },
      }),
    );
  const aside = useAct(send("set-aside"), done);
  const include = useAct(send("include"), done);
  const out = marked.filter((c) => c.setAside);
  const within = marked.filter((c) => !c.setAside);
  return (
    <>
      <Confirm
        gone={within.length === 0}
        trigger={<Button disabled={!may("work") || awaited}>Set {thousands(within.length)} aside…</Button>}
        about={{ plan: p, changes: within }}
        differs={(pinned, now) => changedPlan(pinned.plan, now.plan)}
        ask={({ changes }) => ({
          title: `Set ${many(changes.length, "change")} aside`,
          act: "Set aside",
          reason: "Reason. They stay aside in later drafts, until something else is wanted",
          body: <p>What needs them goes along, and so does the rest of a unit. They stay in the list, and are not carried out.</p>,
        })}
        busy={aside.isPending}
        error={aside.error}
        confirm={(of, reason) => aside.mutateAsync({ of, reason })}
      />
      {out.length > 0 && (
        <Button disabled={!may("work") || awaited || include.isPending} onClick={() => include.mutate({ of: { plan: p, changes: out } })}>
          Include {thousands(out.length)} again
        </Button>
      )}
      {include.error && <Trouble error={include.error} />}
      {marked.length === 0 && <span className="text-soft">space marks a change, Enter opens it</span>}
    </>
  );
}

/** Loads a sheet of the plan that came back decided. */
function Sheet({ plan: p }: { plan: Plan }) {
  const may = useMay();
  const load = useAct((file: File) => decideBySheet(p.id, file));
  if (!may("work")) return null;
  return (
    <details className="relative">
      <summary>Load decisions…</summary>
      <div className="absolute right-0 z-10 mt-1 w-[360px] rounded-sm border border-hair bg-leaf p-2 shadow-lg">
        <p className="text-soft">Its column decision says include or set aside.</p>
        <DropFile
          label="sheet of this plan"
          hint="or drop it here"
          accept=".xlsx,.csv"
          busy={load.isPending}
          take={(f) => load.mutate(f)}
        />
        {load.error && <Trouble error={load.error} />}
        {load.data && (
          <p aria-live="polite">
            Taken: {many(load.data.plan.total, "change")}, {thousands(load.data.plan.setAside)} set aside.
          </p>
        )}
      </div>
    </details>
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
      {run.ended && (
        <a
          className="ml-3 underline decoration-hair underline-offset-2"
          href={`/v1/runs/${run.id}/file?format=xlsx`}
          download={`run-${run.id}-receipts.xlsx`}
        >
          Receipts as a sheet
        </a>
      )}
    </p>
  );
}

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
  const me = useMe().data?.name ?? "";
  const of = (p: Plan) => ({ params: { path: { plan: p.id } } });
  const seal = useAct(({ p, overrule }: { p: Plan; overrule: string }) =>
    ask(api.POST("/plans/{plan}/seal", { ...of(p), body: { hash: p.hash, overrule: overrule || undefined } })),
  );
  const start = useAct((p: Plan) => ask(api.POST("/plans/{plan}/runs", { ...of(p), body: { hash: p.hash } })));
  const halt = useAct(() => ask(api.POST("/runs/{run}/halt", { params: { path: { run: p.run ?? 0 } } })));
  const verify = useAct(
    () => ask(api.POST("/runs/{run}/verification", { params: { path: { run: p.run ?? 0 } } })),
    (t: Schemas["Task"]) => verified(t.id),
  );
  const discard = useAct((p: Plan) => ask(api.POST("/plans/{plan}/void", { params: { path: { plan: p.id }, query: { hash: p.hash } } })));
  const ordinary = useAct((p: Plan) => ask(api.POST("/plans/{plan}/ordinary-seal", { ...of(p), body: { hash: p.hash } })));
  const error = halt.error ?? verify.error;
  const mine = p.agreement?.second !== undefined && p.agreement.makers.includes(me);
  const goes = (p: Plan) => p.state === "halted" || p.pausedAfter;
  const tone = (p: Plan) => (harmful.some((v) => (p.verbs[v] ?? 0) > 0) ? "harm" : "main");
  const shared = { about: p, differs: changedPlan };
  return (
    <>
      {error && <Trouble error={error} />}
      <Confirm
        {...shared}
        gone={!["draft", "sealed", "halted"].includes(p.state)}
        trigger={<Button disabled={!may("work")}>Discard the plan…</Button>}
        ask={(p) => ({
          title: `Discard plan ${p.id}`,
          act: `Discard ${many(p.total, "change")}`,
          tone: "harm",
          body: (
            <p>
              The plan can't be sealed or run any more, and lets go of the names it has reserved.
              {p.state === "halted" && " What its run has done stays done; what was sent without an answer is in doubt."} What the charter
              still wants comes with the next draft.
            </p>
          ),
        })}
        busy={discard.isPending}
        error={discard.error}
        confirm={(p) => discard.mutateAsync(p)}
      />
      <Confirm
        {...shared}
        gone={p.state !== "draft" || !p.agreement?.ordinary || may("seal")}
        trigger={<Button disabled={!may("work")}>Have the charter seal it…</Button>}
        ask={(p) => ({
          title: `Have the charter seal plan ${p.id}`,
          act: `Seal ${many(p.total, "change")}`,
          body: (
            <>
              <p>The charter calls this plan ordinary. It is sealed exactly as you see it here, by its hash. Nothing is written yet.</p>
              <Harm verbs={p.verbs} />
            </>
          ),
        })}
        busy={ordinary.isPending}
        error={ordinary.error}
        confirm={(p) => ordinary.mutateAsync(p)}
      />
      <Confirm
        {...shared}
        gone={p.state !== "draft"}
        trigger={
          <Button tone="main" disabled={!may("seal") || mine || p.obstacles.length > 0 || (p.stopped && !may("overrule"))}>
            Seal {many(p.total, "change")}
          </Button>
        }
        ask={(p) => ({
          title: `Seal ${many(p.total, "change")}`,
          act: `Seal ${many(p.total, "change")}`,
          tone: p.stopped ? "harm" : "main",
          reason: p.stopped ? "A guard stops this plan, or allows more than it did. Reason to seal it all the same" : undefined,
          count: p.total,
          body: (
            <>
              <p>You approve exactly what you see here, by its hash. Nothing is written yet.</p>
              <Harm verbs={p.verbs} />
            </>
          ),
        })}
        busy={seal.isPending}
        error={seal.error}
        confirm={(p, overrule) => seal.mutateAsync({ p, overrule })}
      />
      <Confirm
        {...shared}
        gone={p.state !== "sealed" && p.state !== "halted"}
        trigger={
          <Button tone={tone(p)} disabled={!may("seal") || p.obstacles.length > 0}>
            {goes(p) ? "Go on with the run" : `Run ${many(p.total, "change")}`}
          </Button>
        }
        ask={(p) => ({
          title: `Run plan ${p.id}`,
          act: `Run ${many(p.total, "change")}`,
          tone: tone(p),
          count: p.total,
          body: (
            <>
              <p>Every account is read before it is written; what has changed since is left alone.</p>
              <Harm verbs={p.verbs} />
            </>
          ),
        })}
        busy={start.isPending}
        error={start.error}
        confirm={(p) => start.mutateAsync(p)}
      />
      {p.state === "running" && (
        <Button tone="harm" disabled={halt.isPending} onClick={() => halt.mutate(undefined)}>
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
      {run?.ended && (run.outcomes.done ?? 0) > 0 && <Undo plan={p} run={run} />}
    </>
  );
}

/** Drafts what gives back the state before a run. */
function Undo({ plan: p, run }: { plan: Plan; run: Schemas["Run"] }) {
  const may = useMay();
  const go = useNavigate();
  const [task, setTask] = useState<number>();
  const progress = useTask(task, (t) => t.plan && go(`/plans/${t.plan}`));
  const undo = useAct(
    ({ run, reason }: { run: number; reason: string }) =>
      ask(api.POST("/runs/{run}/undo", { params: { path: { run } }, body: { reason } })),
    (begun) => ("hash" in begun ? go(`/plans/${begun.id}`) : setTask(begun.id)),
  );
  const busy = undo.isPending || (progress !== undefined && !progress.ended);
  return (
    <Confirm
      trigger={<Button disabled={!may("work") || busy}>Undo…</Button>}
      about={{ run: run.id, plan: p.id }}
      ask={({ run, plan }) => ({
        title: `Undo run ${run} of plan ${plan}`,
        act: "Draft the undo",
        reason: "Reason. It stands beside each change, and keeps the charter from doing it again for thirty days",
        body: (
          <p>
            A plan is drafted that gives back what was there, only where the accounts still hold what the run has written. What can't be
            undone is listed in it; nothing is written before it is sealed and run.
          </p>
        ),
      })}
      busy={busy}
      error={undo.error}
      confirm={(about, reason) => undo.mutateAsync({ run: about.run, reason })}
    />
  );
}
