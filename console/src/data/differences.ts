import type { Plan, Schemas } from "./client";
import { many } from "./words";

/** How something that was pinned differs from what is there now, each a line for people; none where it does not. */

/** Of a plan: nothing where hash, state and run are the same. */
export function changedPlan(pinned: Plan, now: Plan): string[] {
  if (pinned.hash === now.hash && pinned.state === now.state && pinned.run === now.run) return [];
  const differs = [];
  if (pinned.state !== now.state) differs.push(`The plan is ${now.state}${now.sealedBy ? ` (sealed by ${now.sealedBy})` : ""}`);
  else if (pinned.run !== now.run) differs.push("Another run of it has begun");
  if (pinned.total !== now.total) differs.push(`It had ${many(pinned.total, "change")}, it has ${now.total}`);
  for (const verb of new Set([...Object.keys(pinned.verbs), ...Object.keys(now.verbs)])) {
    const [was, is] = [pinned.verbs[verb] ?? 0, now.verbs[verb] ?? 0];
    if (was !== is) differs.push(`${verb}: ${was}, now ${is}`);
  }
  if (pinned.setAside !== now.setAside) differs.push(`Set aside: ${pinned.setAside}, now ${now.setAside}`);
  return differs.length > 0 ? differs : ["Its changes are others"];
}

/** Findings that a filter selects, as they were listed. */
export type SelectedFindings = { code: string; q: string; which: string; count: number; snapshot?: string };

export function changedFindings(pinned: SelectedFindings, now: SelectedFindings): string[] {
  if (pinned.snapshot === now.snapshot && pinned.count === now.count) return [];
  return [
    pinned.count === now.count
      ? "The findings are others, or have been decided on"
      : `There were ${many(pinned.count, "finding")}, there are ${now.count}`,
  ];
}

/** Records that were selected, as the request names them. */
export type Selection = { count: number; whom: Pick<Schemas["ActionInput"], "accountIds" | "personIds" | "findings"> };

export function changedSelection(pinned: Selection, now: Selection): string[] {
  if (JSON.stringify(pinned.whom) === JSON.stringify(now.whom)) return [];
  return [pinned.count === now.count ? "Others are selected now" : `${pinned.count} were selected, ${now.count} are now`];
}

type Question = Schemas["Question"];

/** The pairs that a filter selects, as they were listed. */
export type SelectedPairs = { list: Question[]; snapshot: string };

/** One name for a pair. */
export const pairOf = (q: { person?: string; account?: string }) => `${q.person}\u0000${q.account}`;

export function changedPairs(pinned: SelectedPairs, now: SelectedPairs): string[] {
  if (pinned.snapshot === now.snapshot) return [];
  const were = new Set(pinned.list.map(pairOf));
  const are = new Set(now.list.map(pairOf));
  const gone = [...were].filter((x) => !are.has(x)).length;
  const came = [...are].filter((x) => !were.has(x)).length;
  const differs = [];
  if (gone > 0) differs.push(`${many(gone, "pair")} left the list`);
  if (came > 0) differs.push(`${many(came, "pair")} came`);
  return differs.length > 0 ? differs : ["A record or a ruling has changed"];
}

export function changedIntention(pinned: Schemas["Intention"], now: Schemas["Intention"]): string[] {
  return [
    ...(pinned.due === now.due ? [] : [`It is due on ${now.due}, not on ${pinned.due}`]),
    ...(pinned.reason === now.reason ? [] : [`Its reason is now: ${now.reason}`]),
  ];
}

export function changedSystem(pinned: Schemas["System"], now: Schemas["System"]): string[] {
  if (pinned.version === now.version) return [];
  const differs = [...new Set([...Object.keys(pinned.settings), ...Object.keys(now.settings)])]
    .filter((k) => pinned.settings[k] !== now.settings[k])
    .map((k) => `${k} is ${now.settings[k] ?? "not set"}, was ${pinned.settings[k] ?? "not set"}`);
  if (now.writable !== pinned.writable) differs.push(now.writable ? "It is open for writing" : "It is read-only");
  return differs.length > 0 ? differs : ["Its settings were saved again"];
}
