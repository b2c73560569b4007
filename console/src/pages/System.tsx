import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { changedSystem } from "../data/differences";
import { useAct, useMay, useRosters, useSystem, useTask } from "../data/queries";
import { Confirm } from "../ui/confirm";
import { List } from "../ui/list";
import { Button, Empty, Facts, Head, Loading, Progress, Trouble, thousands, When } from "../ui/parts";
import { ProbeReport } from "../ui/probe";

export function SystemPage() {
  const { system = "" } = useParams();
  const view = useSystem(system);
  const rosters = useRosters(system);
  const may = useMay();
  const go = useNavigate();
  const [task, setTask] = useState<number>();
  const progress = useTask(task);
  const path = { path: { system } };
  const take = useAct(
    (query: { extent?: "whole" | "changes"; newScope?: boolean }) =>
      ask(api.POST("/systems/{system}/rosters", { params: { ...path, query } })),
    (t: Schemas["Task"]) => setTask(t.id),
  );
  const halt = useAct((id: number) => ask(api.POST("/tasks/{task}/halt", { params: { path: { task: id } } })));
  const open = useAct((version: number) =>
    ask(api.PUT("/systems/{system}/writing", { params: { ...path, header: { "If-Match": `"${version}"` } }, body: { on: true } })),
  );
  const close = useAct(() => ask(api.PUT("/systems/{system}/writing", { params: path, body: { on: false } })));
  const probe = useAct(() => ask(api.POST("/systems/{system}/probe", { params: path })));
  if (view.isPending) return <Loading />;
  if (!view.data) return <Trouble error={view.error} />;
  const s = view.data;
  const working = progress !== undefined && !progress.ended;
  const idle = may("work") && !working;
  const moved = progress?.state === "failed" && progress.message?.includes("the scope of");
  const limits: [string, string][] = [
    ["at once", s.atOnce ? `${s.atOnce} requests` : "no limit"],
    ["a second", s.perSecond ? `${s.perSecond} requests` : "no limit"],
    ...(s.namespace ? ([["shares names", s.namespace]] as [string, string][]) : []),
    ...(s.secretUntil ? ([["secret until", s.secretUntil]] as [string, string][]) : []),
    ["rosters kept", s.keepDays ? `${s.keepDays} days` : "for ever"],
  ];
  return (
    <>
      <Head
        trail={[["/systems", "Systems"]]}
        title={s.title || s.name}
        about={`${s.title ? `${s.name}, ` : ""}${s.kind}, ${s.writable ? "open for writing" : "read-only"}${s.hasSecret ? ", secret set" : ""}`}
      >
        {may("administer") && s.writable && (
          <Button disabled={close.isPending} onClick={() => close.mutate(undefined)}>
            Make read-only
          </Button>
        )}
        <Confirm
          gone={!may("administer") || s.writable}
          trigger={<Button tone="harm">Open for writing…</Button>}
          about={s}
          differs={changedSystem}
          ask={(s) => ({
            title: `Open ${s.name} for writing`,
            act: `Open ${s.name} for writing`,
            tone: "harm",
            body: (
              <>
                <p>Sealed plans can then be run against it:</p>
                <Facts rows={Object.entries(s.settings).filter(([k]) => !["page", "path"].includes(k) || s.kind === "file")} />
                <p>Nothing is written before a plan is sealed and run. It can be made read-only at once.</p>
              </>
            ),
          })}
          busy={open.isPending}
          error={open.error}
          confirm={(s) => open.mutateAsync(s.version)}
        />
        {may("administer") && <Button onClick={() => go(`/systems/${system}/settings`)}>Settings</Button>}
        <Button disabled={!may("work") || probe.isPending} onClick={() => probe.mutate(undefined)}>
          {probe.isPending ? "Probing…" : "Probe"}
        </Button>
        <Button disabled={!may("work")} onClick={() => go(`/systems/${system}/preview`)}>
          Preview
        </Button>
        {s.kind === "ldap" && (
          <Button disabled={!idle} onClick={() => take.mutate({ extent: "changes" })}>
            Take changes
          </Button>
        )}
        <Button tone="main" disabled={!idle} onClick={() => take.mutate({})}>
          Take a roster
        </Button>
      </Head>
      {(take.error || close.error || probe.error) && <Trouble error={take.error ?? close.error ?? probe.error} />}
      {working && (
        <div className="flex items-center gap-3">
          <Progress done={progress.done} total={progress.total} label="reading" since={progress.started} />
          <Button onClick={() => halt.mutate(progress.id)}>Halt</Button>
        </div>
      )}
      {progress && ["failed", "halted"].includes(progress.state) && <Trouble error={progress.message} />}
      {moved && (
        <Button tone="harm" onClick={() => take.mutate({ newScope: true })}>
          Take it with the new scope
        </Button>
      )}
      {probe.data && <ProbeReport probe={probe.data} />}
      <h2 className="mt-2 mb-1">Rosters</h2>
      {rosters.data?.items.length === 0 && <Empty>No roster has been taken yet. A preview shows what would be understood.</Empty>}
      {rosters.data && rosters.data.items.length > 0 && (
        <List
          label="rosters"
          height="300px"
          rows={rosters.data.items}
          rowKey={(r) => String(r.id)}
          open={(r) => r.state === "taken" && go(`/rosters/${r.id}`)}
          columns={[
            { name: "roster", width: "60px", right: true, cell: (r) => r.id },
            { name: "taken", width: "110px", cell: (r) => <When at={r.ended ?? r.started} /> },
            { name: "extent", width: "70px", cell: (r) => r.extent },
            { name: "state", width: "70px", cell: (r) => r.state },
            { name: "records", width: "80px", right: true, cell: (r) => thousands(r.records) },
            { name: "rejected", width: "70px", right: true, cell: (r) => thousands(r.rejected) },
            { name: "left out", width: "70px", right: true, cell: (r) => thousands(r.leftOut) },
            { name: "came", width: "60px", right: true, cell: (r) => thousands(r.came) },
            { name: "went", width: "60px", right: true, cell: (r) => thousands(r.went) },
            { name: "changed", width: "70px", right: true, cell: (r) => thousands(r.changed) },
            { name: "notes", width: "1fr", cell: (r) => (r.error ? <span className="text-madder">{r.error}</span> : r.name) },
          ]}
        />
      )}
      <div className="mt-4 grid grid-cols-2 gap-8">
        <section>
          <h2>Settings</h2>
          <Facts
            rows={[
              ...Object.entries(s.settings).map(([k, v]): [string, React.ReactNode] => [
                k,
                <span key={k} className="break-all font-mono text-[12px]">
                  {v}
                </span>,
              ]),
              ...limits,
            ]}
          />
        </section>
        <section>
          <h2>Shape</h2>
          <pre className="overflow-x-auto font-mono text-[12px]">{s.shape || "the connector's own"}</pre>
        </section>
      </div>
    </>
  );
}
