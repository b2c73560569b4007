import { useNavigate } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { meant, useAct, useFindings, useMay, useMe } from "../data/queries";
import { AskFor } from "../ui/asking";
import { Confirm } from "../ui/confirm";
import { Id, List } from "../ui/list";
import { Button, Empty, Pick, Search, Trouble, thousands, When } from "../ui/parts";

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
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  const counts = list.data?.pages[0]?.counts ?? {};
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
          <Together lane={lane} code={code} q={q} which={which} count={list.data?.pages[0]?.total ?? rows.length} me={me} />
        )}
      </div>
      {list.error && !list.data && <Trouble error={list.error} />}
      {list.data && rows.length === 0 ? (
        <Empty>{all === 0 ? "Nothing is wrong in this lane." : "No finding matches; clear the search or the filter."}</Empty>
      ) : (
        <List
          label="findings"
          height={height}
          rows={rows}
          rowKey={(f) => f.id}
          more={list.hasNextPage ? list.fetchNextPage : undefined}
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
function Together({
  lane,
  code,
  q,
  which,
  count,
  me,
}: {
  lane: string;
  code: string;
  q: string;
  which: string;
  count: number;
  me: string;
}) {
  const may = useMay();
  const go = useNavigate();
  const these = { ...meant(code, q, which), expect: count };
  const send = (body: Schemas["FindingAct"]) => ask(api.POST("/lanes/{lane}/findings", { params: { path: { lane } }, body }));
  const assign = useAct(send);
  const accept = useAct(send);
  const mine = which === `of ${me}`;
  const remedy = useAct(
    () =>
      ask(
        api.POST("/lanes/{lane}/plans", {
          params: { path: { lane } },
          body: { findings: [code as Schemas["FindingCode"]] },
        }),
      ),
    (begun) => go("hash" in begun ? `/plans/${begun.id}` : "/tasks"),
  );
  return (
    <>
      {code && !q && !which && (
        <Button disabled={!may("work") || remedy.isPending} onClick={() => remedy.mutate(undefined)}>
          Draft their remedies
        </Button>
      )}
      <AskFor lane={lane} count={count} what={count === 1 ? "finding" : "findings"} whom={{ findings: these }} />
      <Button
        disabled={!may("work") || assign.isPending}
        onClick={() => assign.mutate({ act: "assign", to: mine ? undefined : me, ...these })}
      >
        {mine ? "Give them up" : `Look after these ${thousands(count)}`}
      </Button>
      <Confirm
        trigger={<Button disabled={!may("work")}>Accept these {thousands(count)}…</Button>}
        title={`Accept ${thousands(count)} findings`}
        act="Accept them"
        tone="main"
        reason="Why? Whoever looks later reads it."
        busy={accept.isPending}
        error={accept.error}
        confirm={(reason) => accept.mutateAsync({ act: "accept", reason, ...these })}
      >
        <p>They no longer stand in the way, and stay in the list as accepted.</p>
      </Confirm>
      {remedy.error && <Trouble error={remedy.error} />}
      {assign.error && <Trouble error={assign.error} />}
    </>
  );
}
