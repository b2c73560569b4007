import { useNavigate } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { changedFindings, type SelectedFindings } from "../data/differences";
import { meant, useAct, useFindings, useMay, useMe } from "../data/queries";
import { AskFor } from "../ui/asking";
import { Confirm } from "../ui/confirm";
import { Id, List } from "../ui/list";
import { Button, Empty, many, Pick, Search, Trouble, thousands, When } from "../ui/parts";

/** What is wrong, gravest first; who looks after it, and what is accepted, also of many at once. */
export function Findings({
  lane,
  code,
  q,
  which,
  height,
  set,
}: {
  lane: string;
  code: string;
  q: string;
  which: string;
  height: string;
  set: (next: Record<string, string>) => void;
}) {
  const list = useFindings(lane, code, q, which);
  const me = useMe().data?.name ?? "";
  const go = useNavigate();
  const { rows, awaited } = list;
  const counts = list.first?.counts ?? {};
  const all = Object.values(counts).reduce((a, b) => a + b, 0);
  return (
    <>
      <div className="mb-2 flex flex-wrap items-center gap-x-3 gap-y-1">
        <Search label="Search findings" value={q} onChange={(v) => set({ q: v })} />
        <Pick
          label="code"
          value={code}
          onChange={(v) => set({ code: v })}
          options={[
            ["", `all (${all})`],
            ...Object.entries(counts)
              .sort()
              .map(([c, n]) => [c, `${c} (${n})`] as [string, string]),
          ]}
        />
        <Pick
          label="which"
          value={which}
          onChange={(v) => set({ which: v })}
          options={[
            ["", "all"],
            ["new", "new since the last reconciliation"],
            [`of ${me}`, "looked after by me"],
          ]}
        />
        {(code || q || which) && rows.length > 0 && (
          <Together lane={lane} these={{ code, q, which, count: list.total, snapshot: list.first?.snapshot }} awaited={awaited} me={me} />
        )}
      </div>
      {list.error && !list.first && <Trouble error={list.error} />}
      {list.first && !awaited && rows.length === 0 ? (
        <Empty>{all === 0 ? "Nothing is wrong in this lane." : "No finding matches; clear the search or the filter."}</Empty>
      ) : (
        <List
          label="findings"
          height={height}
          rows={rows}
          rowKey={(f) => f.id}
          more={list.more}
          awaited={awaited}
          open={(f) =>
            go(
              `/lanes/${lane}/why?${f.person ? `person=${encodeURIComponent(f.person)}` : ""}${f.account ? `&account=${encodeURIComponent(f.account)}` : ""}`,
            )
          }
          columns={[
            {
              name: "severity",
              width: "76px",
              cell: (f) =>
                f.accepted ? (
                  <span className="text-soft">accepted</span>
                ) : (
                  <span className={f.severity === "error" ? "text-madder" : f.severity === "warning" ? "text-ochre" : "text-soft"}>
                    {f.severity}
                  </span>
                ),
            },
            { name: "code", width: "145px", cell: (f) => f.code },
            {
              name: "person",
              width: "1fr",
              cell: (f) =>
                f.person && (
                  <>
                    <span>{f.personLabel}</span> <Id>{f.person}</Id>
                  </>
                ),
            },
            {
              name: "account",
              width: "1fr",
              cell: (f) =>
                f.account && (
                  <>
                    <span>{f.accountLabel}</span> <Id>{f.account}</Id>
                  </>
                ),
            },
            { name: "what is wrong", width: "2.4fr", cell: (f) => f.detail },
            { name: "since", width: "84px", cell: (f) => <When at={f.since} /> },
            { name: "with", width: "84px", cell: (f) => f.assignedTo },
          ]}
        />
      )}
    </>
  );
}

/** Does one thing about all findings that the filters show. */
function Together({ lane, these: t, awaited, me }: { lane: string; these: SelectedFindings; awaited: boolean; me: string }) {
  const may = useMay();
  const go = useNavigate();
  const selected = (t: SelectedFindings) => ({ ...meant(t.code, t.q, t.which), expect: t.count, snapshot: t.snapshot });
  const send = (body: Schemas["FindingAct"]) => ask(api.POST("/lanes/{lane}/findings", { params: { path: { lane } }, body }));
  const assign = useAct(send);
  const accept = useAct(send);
  const mine = t.which === `of ${me}`;
  const remedy = useAct(
    () =>
      ask(
        api.POST("/lanes/{lane}/plans", {
          params: { path: { lane } },
          body: { findings: [t.code as Schemas["FindingCode"]] },
        }),
      ),
    (begun) => go("hash" in begun ? `/plans/${begun.id}` : "/tasks"),
  );
  const idle = may("work") && !awaited;
  return (
    <>
      {t.code && !t.q && !t.which && (
        <Button disabled={!idle || remedy.isPending} onClick={() => remedy.mutate(undefined)}>
          Draft their remedies
        </Button>
      )}
      <AskFor lane={lane} count={t.count} what="finding" whom={{ findings: selected(t) }} awaited={awaited} />
      <Button
        disabled={!idle || assign.isPending}
        onClick={() => assign.mutate({ act: "assign", to: mine ? undefined : me, ...selected(t) })}
      >
        {mine ? "Give them up" : `Look after these ${thousands(t.count)}`}
      </Button>
      <Confirm
        trigger={<Button disabled={!idle}>Accept these {thousands(t.count)}…</Button>}
        about={t}
        differs={changedFindings}
        ask={(t) => ({
          title: `Accept ${many(t.count, "finding")}`,
          act: "Accept them",
          reason: "Reason",
          body: <p>They no longer stand in the way, and stay in the list as accepted.</p>,
        })}
        busy={accept.isPending}
        error={accept.error}
        confirm={(t, reason) => accept.mutateAsync({ act: "accept", reason, ...selected(t) })}
      />
      {remedy.error && <Trouble error={remedy.error} />}
      {assign.error && <Trouble error={assign.error} />}
    </>
  );
}
