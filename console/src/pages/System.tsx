import { useRef, useState } from "react";
import { useParams } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { useAct, useMay, useRejections, useRosters, useSystem, useTask } from "../data/queries";
import { Id, List } from "../ui/list";
import { Button, Empty, Head, Loading, Progress, Trouble, thousands, When } from "../ui/parts";

export function SystemPage() {
  const { system = "" } = useParams();
  const view = useSystem(system);
  const rosters = useRosters(system);
  const may = useMay();
  const [task, setTask] = useState<number>();
  const [chosen, setChosen] = useState<number>();
  const progress = useTask(task);
  const file = useRef<HTMLInputElement>(null);
  const shown = chosen ?? rosters.data?.items.find((r) => r.state === "taken")?.id;
  const rejected = useRejections(shown);
  const take = useAct(
    (sent?: File) =>
      ask(
        api.POST("/systems/{system}/rosters", {
          params: { path: { system } },
          ...(sent
            ? { body: sent as unknown as string, headers: { "Content-Type": "application/octet-stream" }, bodySerializer: (b: unknown) => b as BodyInit }
            : {}),
        }),
      ),
    (t: Schemas["Task"]) => setTask(t.id),
  );
  const open = useAct((on: boolean) => ask(api.PUT("/systems/{system}/writing", { params: { path: { system } }, body: { on } })));
  if (view.isPending) return <Loading />;
  if (view.error) return <Trouble error={view.error} />;
  const s = view.data;
  const working = progress !== undefined && !progress.ended;
  return (
    <>
      <Head
        trail={[["/systems", "Systems"]]}
        title={s.name}
        about={`${s.kind}, ${s.writable ? "open for writing" : "read-only"}${s.hasSecret ? ", secret set" : ""}`}
      >
        {s.kind === "scim" && may("administer") && (
          <Button tone={s.writable ? "plain" : "harm"} onClick={() => open.mutate(!s.writable)}>
            {s.writable ? "Make read-only" : "Open for writing"}
          </Button>
        )}
        {s.kind === "file" && (
          <>
            <input
              ref={file}
              type="file"
              aria-label="file to take a roster of"
              className="sr-only"
              tabIndex={-1}
              onChange={(e) => e.target.files?.[0] && take.mutate(e.target.files[0])}
            />
            <Button disabled={!may("work") || working} onClick={() => file.current?.click()}>
              Take a roster of a file…
            </Button>
          </>
        )}
        <Button tone="main" disabled={!may("work") || working} onClick={() => take.mutate(undefined)}>
          Take a roster
        </Button>
      </Head>
      {(take.error || open.error) && <Trouble error={take.error ?? open.error} />}
      {working && <Progress done={progress.done} total={progress.total} label="reading" />}
      {progress?.state === "failed" && <Trouble error={progress.message} />}
      <h2 className="mt-2 mb-1">Rosters</h2>
      {rosters.data?.items.length === 0 && <Empty>No roster has been taken yet.</Empty>}
      {rosters.data && rosters.data.items.length > 0 && (
        <List
          label="rosters"
          height="240px"
          rows={rosters.data.items}
          rowKey={(r) => String(r.id)}
          open={(r) => setChosen(r.id)}
          columns={[
            { name: "roster", width: "70px", right: true, cell: (r) => r.id },
            { name: "taken", width: "120px", cell: (r) => <When at={r.ended ?? r.started} /> },
            { name: "state", width: "80px", cell: (r) => r.state },
            { name: "records", width: "90px", right: true, cell: (r) => thousands(r.records) },
            { name: "rejected", width: "90px", right: true, cell: (r) => thousands(r.rejected) },
            { name: "came", width: "80px", right: true, cell: (r) => thousands(r.came) },
            { name: "went", width: "80px", right: true, cell: (r) => thousands(r.went) },
            { name: "changed", width: "80px", right: true, cell: (r) => thousands(r.changed) },
            { name: "notes", width: "1fr", cell: (r) => <span className="text-madder">{r.error}</span> },
          ]}
        />
      )}
      <h2 className="mt-4 mb-1">Records that could not be read{shown ? ` in roster ${shown}` : ""}</h2>
      {rejected.data && rejected.data.items.length === 0 && <p className="text-soft">Every record was understood.</p>}
      {rejected.data && rejected.data.items.length > 0 && (
        <List
          label="rejected records"
          height="220px"
          rows={rejected.data.items}
          rowKey={(r) => `${r.line} ${r.id ?? ""} ${r.reason}`}
          columns={[
            { name: "line", width: "60px", right: true, cell: (r) => r.line || "" },
            { name: "column", width: "140px", cell: (r) => r.column },
            { name: "id", width: "140px", cell: (r) => <Id>{r.id ?? "not readable"}</Id> },
            { name: "why", width: "1fr", cell: (r) => r.reason },
          ]}
        />
      )}
      <div className="mt-4 grid grid-cols-2 gap-8">
        <section>
          <h2>Settings</h2>
          <dl className="grid grid-cols-[120px_1fr]">
            {Object.entries(s.settings).map(([k, v]) => (
              <div key={k} className="contents">
                <dt className="text-soft">{k}</dt>
                <dd className="break-all font-mono text-[12px]">{v}</dd>
              </div>
            ))}
          </dl>
        </section>
        <section>
          <h2>Shape</h2>
          <pre className="overflow-x-auto font-mono text-[12px]">{s.shape || "the connector's own"}</pre>
        </section>
      </div>
    </>
  );
}
