import { useCallback, useEffect, useRef, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { changedPairs, pairOf, type SelectedPairs } from "../data/differences";
import { type QuestionFilter, useAct, useFacing, useMay, useQuestions } from "../data/queries";
import { Confirm } from "../ui/confirm";
import { EvidenceBars } from "../ui/evidence";
import { FacingRecord, FacingRows } from "../ui/facing";
import { Glyph } from "../ui/glyph";
import { Id } from "../ui/list";
import { Button, Empty, Head, Loading, many, Search, Select, Trouble, thousands } from "../ui/parts";

type Question = Schemas["Question"];

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
  const pair = hand ? pairOf(hand) : "";
  useEffect(() => {
    if (hand && facing.data && shown?.pair !== pair) setShown({ pair, facing: facing.data });
  }, [hand, facing.data, shown, pair]);
  const pinned = shown?.pair === pair ? shown.facing : undefined;
  return {
    hand,
    take: setHand,
    error: facing.error,
    pinned,
    settled: hand !== undefined && !list.some((q) => pairOf(q) === pair),
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
  const { rows: list, first: page, awaited: filtering, more } = questions;
  const { hand, take, pinned, settled, moved, lookAgain, error } = useHand(lane, list);
  const [place, setPlace] = useState(0); // where the hand was in the list, for when its pair is gone from it
  const index = hand ? list.findIndex((q) => pairOf(q) === pairOf(hand)) : -1;
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
      if (to > list.length - 5) more?.();
    },
    [list, index, place, more, take],
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
      setAwaited({ pair: pairOf(r), from: held.current });
    },
  );
  const held = useRef<Question>(undefined); // what is in hand when an answer comes, not when it was asked for
  held.current = hand;
  // the pair that was undone goes back into the hand once the list shows it, unless another was taken since
  const [awaited, setAwaited] = useState<{ pair: string; from?: Question }>();
  useEffect(() => {
    if (awaited === undefined) return;
    const back = list.find((q) => pairOf(q) === awaited.pair);
    if (back && held.current === awaited.from) take(back);
    if (back || !questions.isFetching) setAwaited(undefined);
  }, [awaited, list, questions.isFetching, take]);
  const busy = rule.isPending || undo.isPending || awaited !== undefined;
  const ready =
    hand !== undefined && pinned !== undefined && !moved && !settled && !busy && !filtering && may("work") && reason.trim() !== "";
  const judge = (kind: "same" | "different") => {
    if (!ready || !hand || !pinned) return;
    const following = list[index + 1] ?? list[index - 1];
    rule.mutateAsync({ q: hand, kind, seen: pinned.version }).then(
      () => held.current === hand && take(following), // whoever has taken another keeps it
      () => {}, // its error is shown
    );
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
  if (!page) return <Trouble error={questions.error} />;
  const open = Object.values(page.codes).reduce((a, b) => a + b, 0);
  const asked = page.asked;
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
            {page.unasked > 0 && (
              <>
                .{" "}
                <Link to={`/lanes/${lane}?view=people&state=contested`} className="underline underline-offset-2">
                  {thousands(page.unasked)} more
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
          {Object.entries(page.codes)
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
          <Queue list={list} total={questions.total} awaited={filtering} current={hand} choose={take} />
          <div>
            <Card lane={lane} question={hand} facing={pinned} error={error} box={card} keys={keys} />
            {settled && !busy && !filtering && (
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
              <Button repeat onClick={() => move(1)}>
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
                total={questions.total}
                snapshot={page.snapshot}
                awaited={filtering}
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

function Queue({
  list,
  total,
  awaited,
  current,
  choose,
}: {
  list: Question[];
  total: number;
  awaited: boolean;
  current: Question;
  choose: (q: Question) => void;
}) {
  return (
    <section
      aria-label="open pairs"
      aria-busy={awaited}
      className={`border-hair border-r pr-3 ${awaited ? "pointer-events-none opacity-50" : ""}`}
    >
      <h2>
        Open <span className="font-normal text-soft">{awaited ? "reading…" : `${thousands(total)} shown`}</span>
      </h2>
      <ol className="max-h-[calc(100vh-190px)] overflow-auto">
        {list.map((q) => (
          <li key={pairOf(q)}>
            <button
              type="button"
              aria-current={pairOf(q) === pairOf(current)}
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

type Pairs = SelectedPairs & { filter: QuestionFilter };

/** One ruling on all pairs that the filter held when the dialog was opened. */
function Bulk({
  lane,
  list,
  total,
  snapshot,
  awaited,
  filter,
  keep,
}: {
  lane: string;
  list: Question[];
  total: number;
  snapshot: string;
  awaited: boolean;
  filter: QuestionFilter;
  keep: (more: Schemas["Ruling"][]) => void;
}) {
  const may = useMay();
  const [kind, setKind] = useState<"same" | "different">("different");
  const [refused, setRefused] = useState<{ index: number; whose?: string; title: string; detail?: string }[]>([]);
  const all = useAct(async ({ pairs: p, reason }: { pairs: Pairs; reason: string }) => {
    const ruled = await ask(
      api.POST("/lanes/{lane}/rulings/bulk", {
        params: { path: { lane } },
        body: {
          snapshot: p.snapshot,
          ...p.filter,
          rulings: p.list.map((q) => ({ kind, person: q.person, account: q.account, reason, seen: q.version })),
        },
      }),
    );
    keep(ruled.kept);
    setRefused(ruled.refused.map((r) => ({ ...r, whose: p.list[r.index]?.personLabel })));
  });
  if (list.length < total) return <span className="text-soft">Narrow the filter to rule on all at once</span>;
  return (
    <>
      <Confirm
        trigger={
          <Button disabled={!may("work") || awaited}>
            <Id>{list.length}</Id> Rule on all
          </Button>
        }
        about={{ list, snapshot, filter }}
        differs={changedPairs}
        ask={({ list }) => ({
          title: `One ruling on ${many(list.length, "pair")}`,
          count: list.length,
          act: `Rule ${thousands(list.length)} ${kind}`,
          reason: "Reason (somebody will ask in a year)",
          body: (
            <>
              <p>Every pair that the filter showed gets the same ruling. If the list has changed meanwhile, nothing is ruled.</p>
              <div className="mt-2">
                <Select label="ruling" value={kind} onChange={(v) => setKind(v as "same" | "different")}>
                  <option value="different">they are different</option>
                  <option value="same">they are the same human</option>
                </Select>
              </div>
            </>
          ),
        })}
        busy={all.isPending}
        error={all.error}
        confirm={(pairs, reason) => all.mutateAsync({ pairs, reason })}
      />
      {refused.map((r) => (
        <p key={r.index} role="alert" className="text-madder">
          {r.whose}: {r.title}. {r.detail}
        </p>
      ))}
    </>
  );
}
