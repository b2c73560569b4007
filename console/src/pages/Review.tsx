import { useCallback, useEffect, useMemo, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { useAct, useFacing, useMay, useQuestions } from "../data/queries";
import { Confirm } from "../ui/confirm";
import { EvidenceBars } from "../ui/evidence";
import { FacingRecord, FacingRows } from "../ui/facing";
import { Glyph } from "../ui/glyph";
import { Id } from "../ui/list";
import { Button, Empty, Head, Loading, Search, Select, Trouble, thousands } from "../ui/parts";

type Question = Schemas["Question"];
const idOf = (q: { person?: string; account?: string }) => `${q.person}\u0000${q.account}`;

/**
 * What was ruled in this sitting, kept by the browser, so that an answer can be
 * undone after a reload too. The rulings themselves are the service's.
 */
function useSitting(lane: string) {
  const key = `review ${lane}`;
  const [done, setDone] = useState<Schemas["Ruling"][]>(() => {
    try {
      return JSON.parse(sessionStorage.getItem(key) ?? "[]");
    } catch {
      return [];
    }
  });
  useEffect(() => sessionStorage.setItem(key, JSON.stringify(done)), [key, done]);
  return [done, setDone] as const;
}

export function ReviewPage() {
  const { lane = "" } = useParams();
  const [params, setParams] = useSearchParams();
  const filter = {
    code: params.get("code") ?? "",
    q: params.get("q") ?? "",
    least: Number(params.get("least") ?? 0),
    most: Number(params.get("most") ?? 1),
  };
  const questions = useQuestions(lane, filter);
  const [done, setDone] = useSitting(lane);
  const [at, setAt] = useState<string>();
  const may = useMay();
  const list = useMemo(() => questions.data?.pages.flatMap((p) => p.items) ?? [], [questions.data]);
  const page = questions.data?.pages[0];
  const index = Math.max(
    0,
    list.findIndex((q) => idOf(q) === at),
  );
  const current: Question | undefined = list[index];
  const set = (next: Record<string, string>) => setParams({ ...Object.fromEntries(params), ...next }, { replace: true });
  const move = useCallback(
    (step: number) => {
      const next = list[Math.max(0, Math.min(list.length - 1, index + step))];
      if (next) setAt(idOf(next));
      if (index + step > list.length - 5 && questions.hasNextPage) questions.fetchNextPage();
    },
    [list, index, questions],
  );
  const [reason, setReason] = useState("looked at side by side");
  const rule = useAct(
    ({ q, kind }: { q: Question; kind: "same" | "different" }) =>
      ask(api.POST("/lanes/{lane}/rulings", { params: { path: { lane } }, body: { kind, person: q.person, account: q.account, reason } })),
    (r: Schemas["Ruling"]) => setDone((d) => [...d.filter((x) => x.id !== r.id), r]),
  );
  const undo = useAct(
    async (r: Schemas["Ruling"]) => {
      await ask(api.DELETE("/lanes/{lane}/rulings/{ruling}", { params: { path: { lane, ruling: r.id } } }));
      return r;
    },
    (r: Schemas["Ruling"]) => {
      setDone((d) => d.filter((x) => x.id !== r.id));
      setAt(idOf(r));
    },
  );
  const busy = rule.isPending || undo.isPending;
  const judge = useCallback(
    (kind: "same" | "different") => {
      if (!current || busy || !may("work") || !reason.trim()) return;
      const following = list[index + 1] ?? list[index - 1];
      rule.mutate({ q: current, kind }, { onSuccess: () => setAt(following ? idOf(following) : undefined) });
    },
    [current, busy, may, reason, list, index, rule],
  );
  const last = done.at(-1);
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (e.target instanceof HTMLInputElement || e.target instanceof HTMLSelectElement || e.ctrlKey || e.metaKey || e.altKey) return;
      if (document.querySelector("[role=dialog]")) return;
      if (e.key === "s") judge("same");
      else if (e.key === "d") judge("different");
      else if (e.key === "u" && last && !busy) undo.mutate(last);
      else if (e.key === "j" || e.key === "ArrowDown") move(1);
      else if (e.key === "k" || e.key === "ArrowUp") move(-1);
      else return;
      e.preventDefault();
    };
    addEventListener("keydown", key);
    return () => removeEventListener("keydown", key);
  }, [judge, move, undo, last, busy]);

  if (questions.isPending) return <Loading />;
  if (questions.error) return <Trouble error={questions.error} />;
  const open = Object.values(page?.codes ?? {}).reduce((a, b) => a + b, 0);
  const asked = page?.asked ?? 0;
  return (
    <>
      <Head
        trail={[
          ["/", "Lanes"],
          [`/lanes/${lane}`, lane],
        ]}
        title="Review desk"
        about={
          <span role="status">
            {thousands(open)} of {thousands(asked)} pairs are open, {thousands(done.length)} ruled in this sitting; rulings show from the
            next reconciliation on
            {(page?.unasked ?? 0) > 0 && (
              <>
                .{" "}
                <Link to={`/lanes/${lane}?view=people&state=contested`} className="underline underline-offset-2">
                  {thousands(page?.unasked ?? 0)} more
                </Link>{" "}
                are contested without a pair to rule on: their findings say what to do
              </>
            )}
          </span>
        }
      >
        <Search value={filter.q} onChange={(q) => set({ q })} label="find a pair" />
        <Select label="asked for" value={filter.code} onChange={(code) => set({ code })}>
          <option value="">asked for anything</option>
          {Object.entries(page?.codes ?? {})
            .sort()
            .map(([code, n]) => (
              <option key={code} value={code}>
                {code} ({n})
              </option>
            ))}
        </Select>
        <Select
          label="probability"
          value={`${filter.least}-${filter.most}`}
          onChange={(v) => set({ least: v.split("-")[0], most: v.split("-")[1] })}
        >
          <option value="0-1">any probability</option>
          <option value="0.9-1">0.9 and more</option>
          <option value="0.5-0.9">0.5 to 0.9</option>
          <option value="0-0.5">up to 0.5</option>
        </Select>
      </Head>
      {(rule.error || undo.error) && <Trouble error={rule.error ?? undo.error} />}
      {!current ? (
        <Empty>
          <p>{open === 0 ? "Nothing is open: everybody is settled." : "No open pair is held by this filter."}</p>
          <p>
            {done.length > 0 && "Reconcile, and the rulings show. "}
            <Link to={`/lanes/${lane}`} className="underline">
              Back to the lane
            </Link>
          </p>
        </Empty>
      ) : (
        <div className="grid grid-cols-[250px_1fr] gap-6">
          <Queue list={list} total={page?.total ?? 0} current={current} choose={(q) => setAt(idOf(q))} />
          <div>
            <Card lane={lane} question={current} />
            <div className="mt-3 flex items-center gap-2">
              <Button tone="main" disabled={!may("work") || busy || !reason.trim()} onClick={() => judge("same")}>
                Same human <kbd>s</kbd>
              </Button>
              <Button tone="main" disabled={!may("work") || busy || !reason.trim()} onClick={() => judge("different")}>
                Different <kbd>d</kbd>
              </Button>
              <Button onClick={() => move(1)}>
                Next <kbd>j</kbd>
              </Button>
              <Button disabled={!last || busy} onClick={() => last && undo.mutate(last)}>
                Undo {last ? `“${last.kind}”` : ""} <kbd>u</kbd>
              </Button>
              <label className="ml-2 flex flex-1 items-center gap-2">
                Reason
                <input
                  value={reason}
                  onChange={(e) => setReason(e.target.value)}
                  className="h-7 min-w-0 flex-1 rounded-sm border border-hair bg-leaf px-2"
                />
              </label>
              <Bulk lane={lane} list={list} total={page?.total ?? 0} keep={(more) => setDone((d) => [...d, ...more])} />
            </div>
          </div>
        </div>
      )}
    </>
  );
}

function Queue({ list, total, current, choose }: { list: Question[]; total: number; current: Question; choose: (q: Question) => void }) {
  return (
    <section aria-label="open pairs" className="border-hair border-r pr-3">
      <h2>
        Open <span className="font-normal text-soft">{thousands(total)} shown</span>
      </h2>
      <ol className="max-h-[calc(100vh-190px)] overflow-auto">
        {list.map((q) => (
          <li key={idOf(q)}>
            <button
              type="button"
              aria-current={idOf(q) === idOf(current)}
              onClick={() => choose(q)}
              className="block w-full border-hair border-b py-1 pl-1 text-left hover:bg-wash aria-[current=true]:bg-wash aria-[current=true]:font-semibold"
            >
              <span className="text-larkspur">{q.personLabel || q.person}</span> ┊{" "}
              <span className="text-lichen">{q.accountLabel || q.account}</span>
              <span className="block font-normal text-soft">
                {q.code}
                {q.probability ? `, ${q.probability.toFixed(2)}` : ""}
              </span>
            </button>
          </li>
        ))}
      </ol>
    </section>
  );
}

function Card({ lane, question: q }: { lane: string; question: Question }) {
  const facing = useFacing(lane, q.person, q.account);
  return (
    <article aria-label="the pair in hand">
      <p>
        <Glyph state="contested" /> <span className="font-medium">{q.code}</span>{" "}
        <span className="text-soft">{q.said.length > 0 ? q.reason.replace(/ \(.*$/s, "") : q.reason}</span>{" "}
        {q.probability ? <span>probability {q.probability.toFixed(3)} </span> : null}
        <Link
          to={`/lanes/${lane}/why?${new URLSearchParams({ person: q.person, account: q.account })}`}
          className="text-soft underline underline-offset-2"
        >
          why, and who else
        </Link>
      </p>
      <section aria-label="side by side" className="my-2 border-hair border-y">
        <div className="grid grid-cols-[1fr_130px_1fr] gap-3 border-hair border-b py-1.5">
          <FacingRecord
            side="larkspur"
            record={facing.data?.person ?? { id: q.person, label: q.personLabel, state: "contested" }}
            none="no person"
          />
          <span />
          <FacingRecord
            side="lichen"
            record={facing.data?.account ?? { id: q.account, label: q.accountLabel, state: "contested" }}
            none="no account"
          />
        </div>
        {facing.error ? <Trouble error={facing.error} /> : null}
        <div className="min-h-[220px]">{facing.data && <FacingRows attributes={facing.data.attributes} />}</div>
      </section>
      {q.said.length > 0 && <EvidenceBars said={q.said} bits={q.bits ?? 0} />}
    </article>
  );
}

/** One ruling on all pairs that the filter holds. */
function Bulk({ lane, list, total, keep }: { lane: string; list: Question[]; total: number; keep: (more: Schemas["Ruling"][]) => void }) {
  const may = useMay();
  const [kind, setKind] = useState<"same" | "different">("different");
  const [refused, setRefused] = useState<Schemas["Ruled"]["refused"]>([]);
  const all = useAct(
    (reason: string) =>
      ask(
        api.POST("/lanes/{lane}/rulings/bulk", {
          params: { path: { lane } },
          body: { rulings: list.map((q) => ({ kind, person: q.person, account: q.account, reason })) },
        }),
      ),
    (v: Schemas["Ruled"]) => {
      keep(v.kept);
      setRefused(v.refused);
    },
  );
  if (list.length < total) return <span className="text-soft">Narrow the filter to rule on all at once</span>;
  return (
    <Confirm
      trigger={
        <Button disabled={!may("work")}>
          <Id>{list.length}</Id> Rule on all
        </Button>
      }
      title={`One ruling on ${thousands(list.length)} pairs`}
      count={list.length}
      act={`Rule ${thousands(list.length)} ${kind}`}
      reason="Reason (somebody will ask in a year)"
      busy={all.isPending}
      error={all.error}
      confirm={(reason) => all.mutate(reason)}
    >
      <p>Every pair that the filter shows gets the same ruling; a pair that somebody else has ruled on meanwhile keeps that.</p>
      <div className="mt-2">
        <Select label="ruling" value={kind} onChange={(v) => setKind(v as "same" | "different")}>
          <option value="different">they are different</option>
          <option value="same">they are the same human</option>
        </Select>
      </div>
      {refused.map((r) => (
        <p key={r.index} className="mt-1 text-madder">
          {list[r.index]?.personLabel}: {r.title}. {r.detail}
        </p>
      ))}
    </Confirm>
  );
}
