import { useNavigate } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { changedIntention } from "../data/differences";
import { useAct, useIntentions, useMay } from "../data/queries";
import { Confirm } from "../ui/confirm";
import { Glyph } from "../ui/glyph";
import { Id, List } from "../ui/list";
import { Month } from "../ui/month";
import { Button, Empty, Loading, Search, Trouble } from "../ui/parts";

type Intention = Schemas["Intention"];

/** What is to be done on its day, the soonest first; any of it can be dropped, with a reason. */
export function Intentions({
  lane,
  q,
  due,
  height,
  set,
}: {
  lane: string;
  q: string;
  /** Only of that day; "": of all. */
  due: string;
  height: string;
  set: (next: Record<string, string>) => void;
}) {
  const list = useIntentions(lane, q, due);
  const go = useNavigate();
  const { rows, awaited } = list;
  if (list.isPending) return <Loading />;
  if (list.error && !list.first) return <Trouble error={list.error} />;
  if (rows.length === 0 && q === "" && due === "" && !awaited)
    return <Empty>Nothing is to come: the charter&apos;s leavers: have no stage that is not due yet.</Empty>;
  return (
    <>
      <Month lane={lane} chosen={due} choose={(day) => set({ due: day })} />
      <div className="mb-2 flex items-center gap-3">
        <Search label="Search what is to come" value={q} onChange={(v) => set({ q: v })} />
        {due && (
          <>
            <span className="text-soft">only {due}</span>
            <Button onClick={() => set({ due: "" })}>Show all days</Button>
          </>
        )}
      </div>
      <List
        label="intentions"
        height={height}
        rows={rows}
        rowKey={(i) => i.id}
        more={list.more}
        awaited={awaited}
        open={(i) => go(`/lanes/${lane}/why?account=${encodeURIComponent(i.account)}`)}
        columns={[
          { name: "due", width: "90px", cell: (i) => <span className={i.cancelled ? "line-through" : ""}>{i.due}</span> },
          {
            name: "verb",
            width: "100px",
            cell: (i) => (
              <span className={i.verb === "delete" && !i.cancelled ? "text-madder" : ""}>
                {i.verb === "delete" && !i.cancelled && <Glyph state="harm" />} {i.verb}
              </span>
            ),
          },
          {
            name: "whose",
            width: "240px",
            cell: (i) => (
              <>
                <span>{i.label}</span>{" "}
                <Id>
                  {i.person} ┊ {i.account}
                </Id>
              </>
            ),
          },
          {
            name: "why",
            width: "1fr",
            cell: (i) => (
              <>
                {i.verb === "keep" && `${i.attribute}${i.kept?.length ? ` (${i.kept.join(", ")})` : ""} stays as it is: `}
                <span className="text-soft">{i.reason}</span>
              </>
            ),
          },
          { name: "what it waits for", width: "1fr", cell: (i) => <Waits intention={i} /> },
          {
            name: "or not",
            width: "120px",
            cell: (i) => <Drop lane={lane} intention={i} />,
          },
        ]}
      />
    </>
  );
}

function Waits({ intention: i }: { intention: Intention }) {
  if (i.cancelled)
    return (
      <span>
        cancelled by {i.cancelledBy}: {i.cancelled}
      </span>
    );
  if (i.verb === "keep") return <>until then; after that the charter may change it</>;
  return <>{i.comes ? "nothing: it comes with the next plan" : (i.waits ?? "its day")}</>;
}

function Drop({ lane, intention: i }: { lane: string; intention: Intention }) {
  const may = useMay();
  const path = { params: { path: { lane, intention: i.id } } };
  const cancel = useAct((reason: string) =>
    ask(api.PUT("/lanes/{lane}/intentions/{intention}/cancellation", { ...path, body: { reason } })),
  );
  const restore = useAct(() => ask(api.DELETE("/lanes/{lane}/intentions/{intention}/cancellation", path)));
  if (i.cancelled)
    return (
      <Button disabled={!may("work") || restore.isPending} onClick={() => restore.mutate(undefined)}>
        Mean it again
      </Button>
    );
  return (
    <Confirm
      trigger={<Button disabled={!may("work")}>Cancel…</Button>}
      about={i}
      differs={changedIntention}
      ask={(i) => ({
        title:
          i.verb === "keep" ? `Let the charter change ${i.attribute} of ${i.label} again` : `Do not ${i.verb} the account of ${i.label}`,
        act: "Cancel the intention",
        reason: "Reason",
        body:
          i.verb === "keep" ? (
            <p>The next reconciliation drafts what the charter wants of it, if that is another thing. It can be meant again.</p>
          ) : (
            <p>It is not drafted on {i.due}, and goes stale where a plan with it is sealed already. It can be meant again.</p>
          ),
      })}
      busy={cancel.isPending}
      error={cancel.error}
      confirm={(_, reason) => cancel.mutateAsync(reason)}
    />
  );
}
