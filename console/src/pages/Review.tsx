import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { type QuestionFilter, useAct, useFacing, useMay, useQuestions } from "../data/queries";
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

/**
 * The pair in hand, as it was shown. It is pinned: whatever the list does
 * meanwhile, a decision is about these two records in these versions, or refused.
 */
function useHand(lane: string, list: Question[]) {
  const [hand, setHand] = useState<Question>();
  const first = list[0];
  useEffect(() => {
    if (!hand && first) setHand(first);
  }, [hand, first]);
  const facing = useFacing(lane, hand?.person, hand?.account);
  const [shown, setShown] = useState<{ pair: string; facing: Schemas["FaceToFace"] }>();
  const pair = hand ? idOf(hand) : "";
  useEffect(() => {
    if (hand && facing.data && shown?.pair !== pair) setShown({ pair, facing: facing.data });
  }, [hand, facing.data, shown, pair]);
  const pinned = shown?.pair === pair ? shown.facing : undefined;
  return {
    hand,
    take: setHand,
    error: facing.error,
    pinned,
    settled: hand !== undefined && !list.some((q) => idOf(q) === pair),
    moved: pinned !== undefined && facing.data !== undefined && facing.data.version !== pinned.version,
    lookAgain: () => facing.data && setShown({ pair, facing: facing.data }),
  };
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
  const may = useMay();
  const list = useMemo(() => questions.data?.pages.flatMap((p) => p.items) ?? [], [questions.data]);
  const page = questions.data?.pages[0];
  const { hand, take, pinned, settled, moved, lookAgain, error } = useHand(lane, list);
  const [place, setPlace] = useState(0); // where the hand was in the list, for when its pair is gone from it
  const index = hand ? list.findIndex((q) => idOf(q) === idOf(hand)) : -1;
  useEffect(() => {
    if (index >= 0) setPlace(index);
  }, [index]);
  const set = (next: Record<string, string>) => setParams({ ...Object.fromEntries(params), ...next }, { replace: true });
  const move = useCallback(
    (step: number) => {
      // from a pair that has left the list, the next one is what took its place
      const to = index >= 0 ? index + step : place + Math.min(step, 0);
      const next = list[Math.max(0, Math.min(list.length - 1, to))];
      take(next);
      if (to > list.length - 5 && questions.hasNextPage) questions.fetchNextPage();
    },
    [list, index, place, questions, take],
  );
  const [reason, setReason] = useState("looked at side by side");
  const card = useRef<HTMLElement>(null);
  const rule = useAct(
    ({ q, kind, seen }: { q: Question; kind: "same" | "different"; seen: string }) =>
      ask(
        api.POST("/lanes/{lane}/rulings", {
          params: { path: { lane } },
          body: { kind, person: q.person, account: q.account, reason, seen },
        }),
      ),
    (r: Schemas["Ruling"]) => setDone((d) => [...d.filter((x) => x.id !== r.id), r]),
  );
  const undo = useAct(
    async (r: Schemas["Ruling"]) => {
      await ask(api.DELETE("/lanes/{lane}/rulings/{ruling}", { params: { path: { lane, ruling: r.id } } }));
      return r;
    },
    (r: Schemas["Ruling"]) => {
      setDone((d) => d.filter((x) => x.id !== r.id));
      setAwaited(idOf(r));
    },
  );
  // the pair that was undone goes back into the hand once the list shows it
  const [awaited, setAwaited] = useState<string>();
  useEffect(() => {
    if (awaited === undefined) return;
    const back = list.find((q) => idOf(q) === awaited);
    if (back) take(back);
    if (back || !questions.isFetching) setAwaited(undefined);
  }, [awaited, list, questions.isFetching, take]);
  const busy = rule.isPending || undo.isPending || awaited !== undefined;
  const ready = hand !== undefined && pinned !== undefined && !moved && !settled && !busy && may("work") && reason.trim() !== "";
  const judge = (kind: "same" | "different") => {
    if (!ready || !hand || !pinned) return;
    const following = list[index + 1] ?? list[index - 1];
    rule.mutate({ q: hand, kind, seen: pinned.version }, { onSuccess: () => take(following) });
  };
  const last = done.at(-1);
  // Keys are those of the card in hand: typed anywhere else, a letter is a letter.
  const keys = (e: React.KeyboardEvent) => {
    if (e.target !== e.currentTarget || e.ctrlKey || e.metaKey || e.altKey || e.repeat) return;
    if (e.key === "s") judge("same");
    else if (e.key === "d") judge("different");
    else if (e.key === "u" && last && !busy) undo.mutate(last);
    else if (e.key === "j" || e.key === "ArrowDown") move(1);
    else if (e.key === "k" || e.key === "ArrowUp") move(-1);
    else return;
    e.preventDefault();
  };
  const there = hand !== undefined;
  useEffect(() => {
    // the desk is ready for the keyboard, unless somebody is typing
    if (there && (document.activeElement === document.body || !document.activeElement)) card.current?.focus();
  }, [there]);

  if (questions.isPending) return <Loading />;
  if (!questions.data) return <Trouble error={questions.error} />;
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
      {!hand ? (
        <Empty>
          <p>{open === 0 ? "Nothing is open: everybody is settled." : "No open pair matches this filter."}</p>
          <p>
            {done.length > 0 && "Reconcile, and the rulings show. "}
            <Link to={`/lanes/${lane}`} className="underline">
              Back to the lane
            </Link>
          </p>
        </Empty>
      ) : (
        <div className="grid grid-cols-[250px_1fr] gap-6">
          <Queue list={list} total={page?.total ?? 0} current={hand} choose={take} />
          <div>
            <Card lane={lane} question={hand} facing={pinned} error={error} box={card} keys={keys} />
            {settled && !busy && (
              <p role="status" className="text-ochre">
                This pair has left the list: somebody settled it, or the filter does not hold it.{" "}
                <Button onClick={() => move(1)}>Next pair</Button>
              </p>
            )}
            {moved && !settled && (
              <p role="status" className="text-ochre">
                These records have changed since they were shown. <Button onClick={lookAgain}>Look again</Button>
              </p>
            )}
            <div className="mt-3 flex items-center gap-2">
              <Button tone="main" disabled={!ready} onClick={() => judge("same")}>
                Same human <kbd>s</kbd>
              </Button>
              <Button tone="main" disabled={!ready} onClick={() => judge("different")}>
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
              <Bulk
                lane={lane}
                list={list}
                total={page?.total ?? 0}
                snapshot={page?.snapshot ?? ""}
                filter={filter}
                keep={(more) => setDone((d) => [...d, ...more])}
              />
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

function Card({
  lane,
  question: q,
  facing,
  error,
  box,
  keys,
}: {
  lane: string;
  question: Question;
  facing?: Schemas["FaceToFace"];
  error: unknown;
  box: React.Ref<HTMLElement>;
  keys: (e: React.KeyboardEvent) => void;
}) {
  return (
    <article
      ref={box}
      aria-label="the pair in hand; s same, d different, j next, k back, u undo"
      tabIndex={0}
      onKeyDown={keys}
      className="rounded-sm px-1 outline-offset-2"
    >
      <p>
        <Glyph state="contested" /> <span className="font-medium">{q.code}</span> <span className="text-soft">{q.brief ?? q.reason}</span>{" "}
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
            record={facing?.person ?? { id: q.person, label: q.personLabel, state: "contested" }}
            none="no person"
          />
          <span />
          <FacingRecord
            side="lichen"
            record={facing?.account ?? { id: q.account, label: q.accountLabel, state: "contested" }}
            none="no account"
          />
        </div>
        {error && !facing ? <Trouble error={error} /> : null}
        <div className="min-h-[220px]">{facing && <FacingRows attributes={facing.attributes} />}</div>
      </section>
      {q.said.length > 0 && <EvidenceBars said={q.said} bits={q.bits ?? 0} />}
    </article>
  );
}

/** One ruling on all pairs that the filter held when the dialog was opened. */
function Bulk({
  lane,
  list,
  total,
  snapshot,
  filter,
  keep,
}: {
  lane: string;
  list: Question[];
  total: number;
  snapshot: string;
  filter: QuestionFilter;
  keep: (more: Schemas["Ruling"][]) => void;
}) {
  const may = useMay();
  const [kind, setKind] = useState<"same" | "different">("different");
  const [refused, setRefused] = useState<Schemas["Ruled"]["refused"]>([]);
  const [pinned, setPinned] = useState({ list, snapshot, filter });
  const all = useAct(
    (reason: string) =>
      ask(
        api.POST("/lanes/{lane}/rulings/bulk", {
          params: { path: { lane } },
          body: {
            snapshot: pinned.snapshot,
            ...pinned.filter,
            rulings: pinned.list.map((q) => ({ kind, person: q.person, account: q.account, reason, seen: q.version })),
          },
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
      opened={() => {
        setPinned({ list, snapshot, filter });
        setRefused([]);
      }}
      title={`One ruling on ${thousands(pinned.list.length)} pairs`}
      count={pinned.list.length}
      act={`Rule ${thousands(pinned.list.length)} ${kind}`}
      reason="Reason (somebody will ask in a year)"
      busy={all.isPending}
      error={all.error}
      confirm={(reason) => all.mutate(reason)}
    >
      <p>Every pair that the filter showed gets the same ruling. If the list has changed meanwhile, nothing is ruled.</p>
      <div className="mt-2">
        <Select label="ruling" value={kind} onChange={(v) => setKind(v as "same" | "different")}>
          <option value="different">they are different</option>
          <option value="same">they are the same human</option>
        </Select>
      </div>
      {refused.map((r) => (
        <p key={r.index} className="mt-1 text-madder">
          {pinned.list[r.index]?.personLabel}: {r.title}. {r.detail}
        </p>
      ))}
    </Confirm>
  );
}
