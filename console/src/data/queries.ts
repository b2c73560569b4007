import { keepPreviousData, type QueryKey, useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState, useSyncExternalStore } from "react";
import { api, ask, Refusal, type Schemas, type Task, unheard } from "./client";

/** One factory for all keys, so that what belongs together is made stale together. */
export const keys = {
  me: ["me"] as const,
  freeze: ["freeze"] as const,
  lanes: ["lanes"] as const,
  lane: (lane: string) => ["lanes", lane] as const,
  laneList: (lane: string, what: string, filter: object) => ["lanes", lane, what, filter] as const,
  plan: (plan: number) => ["plans", plan] as const,
  changes: (plan: number, filter: object) => ["plans", plan, "changes", filter] as const,
  run: (run: number) => ["runs", run] as const,
  systems: ["systems"] as const,
  system: (name: string) => ["systems", name] as const,
  roster: (roster: number) => ["rosters", roster] as const,
  rosterList: (roster: number, what: string, filter: object) => ["rosters", roster, what, filter] as const,
  tasks: ["tasks"] as const,
};

export const useMe = () => useQuery({ queryKey: keys.me, queryFn: () => ask(api.GET("/me")), retry: false, staleTime: 60_000 });
export const useFreeze = () => useQuery({ queryKey: keys.freeze, queryFn: () => ask(api.GET("/freeze")), refetchInterval: 5000 });
export const useLanes = () => useQuery({ queryKey: keys.lanes, queryFn: () => ask(api.GET("/lanes")), refetchInterval: 5000 });
export const useLane = (lane: string) =>
  useQuery({
    queryKey: keys.lane(lane),
    queryFn: () => ask(api.GET("/lanes/{lane}", { params: { path: { lane } } })),
    refetchInterval: 5000,
  });
export const useSystems = () => useQuery({ queryKey: keys.systems, queryFn: () => ask(api.GET("/systems")), refetchInterval: 5000 });
export const useSystem = (system: string) =>
  useQuery({
    queryKey: keys.system(system),
    enabled: system !== "",
    queryFn: () => ask(api.GET("/systems/{system}", { params: { path: { system } } })),
    refetchInterval: 5000,
  });
/** The kind of a lane's downstream, which never changes. */
export const useKindBelow = (lane: string) =>
  useQuery({
    queryKey: ["kind below", lane],
    enabled: lane !== "",
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async () => {
      const { downstream } = await ask(api.GET("/lanes/{lane}", { params: { path: { lane } } }));
      return (await ask(api.GET("/systems/{system}", { params: { path: { system: downstream } } }))).kind;
    },
  });
export const usePlan = (plan: number) =>
  useQuery({
    queryKey: keys.plan(plan),
    queryFn: () => ask(api.GET("/plans/{plan}", { params: { path: { plan } } })),
    refetchInterval: 2000,
  });
export const useRun = (run: number | undefined) =>
  useQuery({
    queryKey: keys.run(run ?? 0),
    enabled: run !== undefined,
    queryFn: () => ask(api.GET("/runs/{run}", { params: { path: { run: run ?? 0 } } })),
    refetchInterval: 1000,
  });
export const useTasks = () =>
  useQuery({ queryKey: keys.tasks, queryFn: () => ask(api.GET("/tasks", { params: { query: { limit: 100 } } })), refetchInterval: 2000 });
export const useCharter = (lane: string) =>
  useQuery({
    queryKey: keys.laneList(lane, "charter", {}),
    queryFn: () => ask(api.GET("/lanes/{lane}/charter", { params: { path: { lane } } })),
  });
export const useWeights = (lane: string) =>
  useQuery({
    queryKey: keys.laneList(lane, "weights", {}),
    queryFn: () => ask(api.GET("/lanes/{lane}/weights", { params: { path: { lane } } })),
    retry: false, // a lane of keys alone has none
  });
export const useTrial = (lane: string, awaited: boolean) =>
  useQuery({
    queryKey: keys.laneList(lane, "trial", {}),
    queryFn: () => ask(api.GET("/lanes/{lane}/trial", { params: { path: { lane } } })),
    retry: false, // most lanes have none yet
    refetchInterval: awaited ? 1000 : false,
  });
export const usePlans = (lane: string) =>
  useQuery({
    queryKey: keys.laneList(lane, "plans", {}),
    queryFn: () => ask(api.GET("/lanes/{lane}/plans", { params: { path: { lane } } })),
    refetchInterval: 5000,
  });
export const useWhy = (lane: string, person?: string, account?: string) =>
  useQuery({
    queryKey: keys.laneList(lane, "why", { person, account }),
    queryFn: () => ask(api.GET("/lanes/{lane}/why", { params: { path: { lane }, query: { person, account } } })),
  });
export const useRosters = (system: string) =>
  useQuery({
    queryKey: [...keys.system(system), "rosters"],
    queryFn: () => ask(api.GET("/systems/{system}/rosters", { params: { path: { system } } })),
    refetchInterval: 5000,
  });
export const useRoster = (roster: number) =>
  useQuery({ queryKey: keys.roster(roster), queryFn: () => ask(api.GET("/rosters/{roster}", { params: { path: { roster } } })) });
export const useRejections = (roster: number) =>
  useQuery({
    queryKey: keys.rosterList(roster, "rejections", {}),
    queryFn: () => ask(api.GET("/rosters/{roster}/rejections", { params: { path: { roster }, query: { limit: 500 } } })),
  });
export const useLeftOut = (roster: number) =>
  useQuery({
    queryKey: keys.rosterList(roster, "left-out", {}),
    queryFn: () => ask(api.GET("/rosters/{roster}/left-out", { params: { path: { roster }, query: { limit: 500 } } })),
  });
export const useStatistics = (roster: number) =>
  useQuery({
    queryKey: keys.rosterList(roster, "statistics", {}),
    queryFn: () => ask(api.GET("/rosters/{roster}/statistics", { params: { path: { roster } } })),
    staleTime: Number.POSITIVE_INFINITY,
  });
export const useSystemKinds = () =>
  useQuery({
    queryKey: ["system-kinds"],
    queryFn: () => ask(api.GET("/system-kinds")),
    staleTime: Number.POSITIVE_INFINITY,
  });
export const useHistory = (system: string | undefined, id: string | undefined) =>
  useQuery({
    queryKey: ["history", system, id],
    enabled: system !== undefined && id !== undefined,
    queryFn: () => ask(api.GET("/systems/{system}/history", { params: { path: { system: system ?? "" }, query: { id: id ?? "" } } })),
  });

export const useKeySurvey = (people: string, accounts: string) =>
  useQuery({
    queryKey: ["key-survey", people, accounts],
    enabled: people !== "" && accounts !== "",
    queryFn: () => ask(api.GET("/key-survey", { params: { query: { authority: people, downstream: accounts } } })),
    retry: false,
    staleTime: 60_000,
  });

type Listed = { items: unknown[]; cursor?: string; total?: number };

/** A text once nobody has typed for a moment. */
function useSettled(text: string) {
  const [settled, settle] = useState(text);
  useEffect(() => {
    const t = setTimeout(() => settle(text), 200);
    return () => clearTimeout(t);
  }, [text]);
  return settled;
}

/**
 * A list, page by page, of what a text and other filters select. While the rows of another
 * filter are still shown, `awaited` says so: nothing may be done with them.
 */
function usePages<P extends Listed>(
  q: string,
  key: (q: string) => QueryKey,
  read: (q: string, cursor: string) => Promise<P>,
  options: { enabled?: boolean; retry?: boolean; refetchInterval?: number | ((pages: number) => number | false) } = {},
) {
  const settled = useSettled(q);
  const every = options.refetchInterval;
  const list = useInfiniteQuery({
    queryKey: key(settled),
    queryFn: ({ pageParam }) => read(settled, pageParam),
    initialPageParam: "",
    getNextPageParam: (last: P) => last.cursor,
    placeholderData: keepPreviousData,
    enabled: options.enabled,
    retry: options.retry,
    refetchInterval: typeof every === "function" ? (query) => every(query.state.data?.pages.length ?? 0) : every,
  });
  const first = list.data?.pages[0];
  const rows = useMemo(() => (list.data?.pages.flatMap((p) => p.items) ?? []) as P["items"], [list.data]);
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = list;
  return {
    rows,
    /** The first page; it has what is told of all. */
    first,
    total: first?.total ?? 0,
    awaited: settled !== q || list.isPlaceholderData,
    isPending: list.isPending,
    isFetching: list.isFetching,
    error: list.error,
    more: hasNextPage ? () => void (isFetchingNextPage || fetchNextPage()) : undefined,
  };
}

/** What a filter holds, or nothing; the service says so when it is none of its words. */
const chosen = <T extends string>(word: string) => (word || undefined) as T | undefined;

export const useVerdicts = (lane: string, side: "people" | "accounts", state: string, q: string) =>
  usePages(
    q,
    (q) => keys.laneList(lane, side, { state, q }),
    (q, cursor) =>
      ask(
        api.GET("/lanes/{lane}/records", {
          params: {
            path: { lane },
            query: { side, state: chosen<Schemas["Standing"]>(state), q, count: cursor === "", cursor, limit: 100 },
          },
        }),
      ),
  );
export type QuestionFilter = { code: string; q: string; least: number; most: number };
export const useQuestions = (lane: string, { q, ...filter }: QuestionFilter) =>
  usePages(
    q,
    (q) => keys.laneList(lane, "questions", { q, ...filter }),
    (q, cursor) =>
      ask(
        api.GET("/lanes/{lane}/questions", {
          params: { path: { lane }, query: { q, ...filter, code: chosen<Schemas["FindingCode"]>(filter.code), cursor, limit: 100 } },
        }),
      ),
    { refetchInterval: 4000 }, // somebody else may be settling the same ones
  );
export const useWithheld = (lane: string, on: boolean) =>
  usePages(
    "",
    () => keys.laneList(lane, "withheld", {}),
    (_, cursor) =>
      ask(
        api.GET("/lanes/{lane}/withheld", {
          params: { path: { lane }, query: { count: cursor === "", cursor, limit: 100 } },
        }),
      ),
    { enabled: on },
  );
export const useIntentionDays = (lane: string, from: string, to: string) =>
  useQuery({
    queryKey: keys.laneList(lane, "intention days", { from, to }),
    queryFn: () => ask(api.GET("/lanes/{lane}/intentions/days", { params: { path: { lane }, query: { from, to } } })),
    placeholderData: keepPreviousData,
  });
export const useIntentions = (lane: string, q: string, due: string) =>
  usePages(
    q,
    (q) => keys.laneList(lane, "intentions", { q, due }),
    (q, cursor) =>
      ask(
        api.GET("/lanes/{lane}/intentions", {
          params: { path: { lane }, query: { q, due: due || undefined, count: cursor === "", cursor, limit: 100 } },
        }),
      ),
  );
export const useDeliveries = (lane: string, q: string) =>
  usePages(
    q,
    (q) => keys.laneList(lane, "deliveries", { q }),
    (q, cursor) =>
      ask(
        api.GET("/lanes/{lane}/deliveries", {
          params: { path: { lane }, query: { q, count: cursor === "", cursor, limit: 100 } },
        }),
      ),
    { refetchInterval: 4000 }, // somebody else may collect them
  );
export const useFacing = (lane: string, person?: string, account?: string) =>
  useQuery({
    queryKey: keys.laneList(lane, "facing", { person, account }),
    enabled: person !== undefined,
    queryFn: () => ask(api.GET("/lanes/{lane}/facing", { params: { path: { lane }, query: { person, account } } })),
    refetchInterval: 4000, // whether the two are still as they were shown
  });
export const useRecords = (roster: number, q: string) =>
  usePages(
    q,
    (q) => keys.rosterList(roster, "records", { q }),
    (q, cursor) => ask(api.GET("/rosters/{roster}/records", { params: { path: { roster }, query: { q, cursor, limit: 100 } } })),
  );
export type Kind = Schemas["RecordChange"]["kind"];
export const useComparison = (roster: number, older: number | undefined, kind: Kind | undefined, attribute: string) =>
  usePages(
    "",
    () => keys.rosterList(roster, "comparison", { older, kind, attribute }),
    (_, cursor) =>
      ask(
        api.GET("/rosters/{roster}/comparison", {
          params: { path: { roster }, query: { with: older, kind, attribute, cursor, limit: 100 } },
        }),
      ),
    { retry: false },
  );
/** Which findings are meant: by a code, a text, and all, the new ones or those of somebody. */
export const meant = (code: string, q: string, which: string) => ({
  code: chosen<Schemas["FindingCode"]>(code),
  q: q || undefined,
  new: which === "new" ? true : undefined,
  assigned: which.startsWith("of ") ? which.slice(3) : undefined,
});
export const useFindings = (lane: string, code: string, q: string, which: string) =>
  usePages(
    q,
    (q) => keys.laneList(lane, "findings", { code, q, which }),
    (q, cursor) =>
      ask(
        api.GET("/lanes/{lane}/findings", {
          params: { path: { lane }, query: { ...meant(code, q, which), count: cursor === "", cursor, limit: 100 } },
        }),
      ),
  );
export const useRefusals = (plan: number, on: boolean) =>
  usePages(
    "",
    () => [...keys.plan(plan), "refusals"],
    (_, cursor) => ask(api.GET("/plans/{plan}/refusals", { params: { path: { plan }, query: { cursor, limit: 100 } } })),
    { enabled: on },
  );
export const useMoves = (plan: number, on: boolean) =>
  useQuery({
    queryKey: [...keys.plan(plan), "names"],
    enabled: on,
    queryFn: () => ask(api.GET("/plans/{plan}/names", { params: { path: { plan } } })),
  });
export const usePlanComparison = (plan: number, other: number | undefined) =>
  usePages(
    "",
    () => [...keys.plan(plan), "comparison", other],
    (_, cursor) =>
      ask(
        api.GET("/plans/{plan}/comparison", {
          params: { path: { plan }, query: { other: other ?? 0, count: cursor === "", cursor, limit: 100 } },
        }),
      ),
    { enabled: other !== undefined },
  );
export const useComments = (plan: number) =>
  useQuery({
    queryKey: [...keys.plan(plan), "comments"],
    queryFn: () => ask(api.GET("/plans/{plan}/comments", { params: { path: { plan }, query: { limit: 500 } } })),
    refetchInterval: 5000,
  });
export const useReceipt = (run: number | undefined, number: number | undefined) =>
  useQuery({
    queryKey: [...keys.run(run ?? 0), "receipt", number],
    enabled: run !== undefined && number !== undefined,
    queryFn: () => ask(api.GET("/runs/{run}/receipts", { params: { path: { run: run ?? 0 }, query: { number } } })),
  });
export const useRuns = (plan: number, on: boolean) =>
  useQuery({
    queryKey: [...keys.plan(plan), "runs"],
    enabled: on,
    queryFn: () => ask(api.GET("/plans/{plan}/runs", { params: { path: { plan } } })),
    refetchInterval: 5000,
  });
/** What changes are counted by. */
export type Field = "account" | "aside" | "attribute" | "class" | "department" | "outcome" | "person" | "reason" | "unit" | "verb" | "wave";
export const useCounts = (plan: number, by: Field, q: string) =>
  useQuery({
    queryKey: keys.changes(plan, { by, q }),
    queryFn: () => ask(api.GET("/plans/{plan}/counts", { params: { path: { plan }, query: { by, q, limit: 200 } } })),
    placeholderData: keepPreviousData,
  });
export const useChanges = (plan: number, verb: string, outcome: string, q: string, live: boolean) =>
  usePages(
    q,
    (q) => keys.changes(plan, { verb, outcome, q }),
    (q, cursor) =>
      ask(
        api.GET("/plans/{plan}/changes", {
          params: {
            path: { plan },
            query: {
              verb: chosen<Schemas["Verb"]>(verb),
              outcome: chosen<Schemas["Outcome"]>(outcome),
              q,
              count: cursor === "",
              cursor,
              limit: 100,
            },
          },
        }),
      ),
    // whoever has read far has so many pages read again
    { refetchInterval: (pages) => live && 1000 * Math.max(pages, 1) },
  );

/** Since when something that is shown could not be read again; undefined when all was. */
export function useStaleSince(): number | undefined {
  const cache = useQueryClient().getQueryCache();
  return useSyncExternalStore(
    (changed) => cache.subscribe(changed),
    () => {
      const stale = cache.getAll().filter((q) => q.isActive() && q.state.error && q.state.data !== undefined);
      return stale.length > 0 ? Math.min(...stale.map((q) => q.state.dataUpdatedAt)) : undefined;
    },
  );
}

/**
 * An act. Whatever it touches is read again, done or refused, so no page needs a refresh to be
 * true. While it is under way it is not begun again; those of one name are done in turn instead.
 */
export function useAct<I, O>(act: (input: I) => Promise<O>, done?: (out: O) => void, inTurn?: string) {
  const client = useQueryClient();
  const underWay = useRef<Promise<O>>(undefined);
  const mutation = useMutation({
    scope: inTurn === undefined ? undefined : { id: inTurn },
    mutationFn: async (input: I) => {
      try {
        return await act(input);
      } catch (e) {
        // unlike a look, an act is not sent again by itself
        throw e instanceof Refusal && e.problem.status === 0 ? unheard : e;
      }
    },
    onSuccess: (out: O) => {
      client.invalidateQueries();
      done?.(out);
    },
    onError: (e) => {
      // whoever is not signed in has nothing to read again, and of a service that does not answer nothing can be read
      if (e instanceof Refusal && e.problem.status !== 401 && e.problem.status !== 0) client.invalidateQueries();
    },
  });
  const mutateAsync = (input: I): Promise<O> => {
    if (inTurn !== undefined) return mutation.mutateAsync(input);
    underWay.current ??= mutation.mutateAsync(input).finally(() => {
      underWay.current = undefined;
    });
    return underWay.current;
  };
  const mutate = (input: I) => void mutateAsync(input).catch(() => {}); // its error is shown
  return { ...mutation, mutate, mutateAsync };
}

/** Follows a task by server-sent events until it ends. */
export function useTask(id: number | undefined, ended?: (task: Task) => void): Task | undefined {
  const [task, setTask] = useState<Task>();
  const client = useQueryClient();
  // biome-ignore lint/correctness/useExhaustiveDependencies: a new callback must not open a new stream
  useEffect(() => {
    if (id === undefined) return;
    const source = new EventSource(`/v1/tasks/${id}/events`);
    source.addEventListener("task", (e) => {
      const t = JSON.parse((e as MessageEvent).data) as Task;
      setTask(t);
      if (t.ended) {
        source.close();
        client.invalidateQueries();
        ended?.(t);
      }
    });
    return () => source.close();
  }, [id]);
  return task?.id === id ? task : undefined;
}

export type Right = Schemas["Right"];
export const useMay = () => {
  const me = useMe();
  return (right: Right) => me.data?.rights.includes(right) ?? false;
};
