import { expect, test } from "vitest";
import type { Plan, Schemas } from "./client";
import { changedFindings, changedIntention, changedPairs, changedPlan, changedSelection, changedSystem } from "./differences";

const plan = (over: Partial<Plan>) =>
  ({ hash: "a", state: "draft", total: 3, verbs: { create: 1, suspend: 2 }, setAside: 0, ...over }) as Plan;

test.each<[Partial<Plan>, string[]]>([
  [{}, []],
  [{ created: "2026-12-01T00:00:00Z" }, []],
  [{ hash: "b" }, ["Its changes are others"]],
  [
    { hash: "b", total: 2, verbs: { create: 1, suspend: 1 }, setAside: 1 },
    ["It had 3 changes, it has 2", "suspend: 2, now 1", "Set aside: 0, now 1"],
  ],
  [{ hash: "b", verbs: { create: 1, delete: 2 } }, ["suspend: 2, now 0", "delete: 0, now 2"]],
  [{ state: "sealed", sealedBy: "idris" }, ["The plan is sealed (sealed by idris)"]],
  [{ run: 4 }, ["Another run of it has begun"]],
])("a plan that has become %j", (over, want) => expect(changedPlan(plan({}), plan(over))).toEqual(want));

test("findings, pairs and selections that are others in the same number", () => {
  const found = { code: "orphan-account", q: "", which: "", count: 3, snapshot: "a" };
  expect(changedFindings(found, { ...found })).toEqual([]);
  expect(changedFindings(found, { ...found, snapshot: "b" })).toEqual(["The findings are others, or have been decided on"]);
  expect(changedFindings(found, { ...found, snapshot: "b", count: 1 })).toEqual(["There were 3 findings, there are 1"]);
  const whom = (...accountIds: string[]) => ({ count: accountIds.length, whom: { accountIds } });
  expect(changedSelection(whom("a", "b"), whom("a", "b"))).toEqual([]);
  expect(changedSelection(whom("a", "b"), whom("a", "c"))).toEqual(["Others are selected now"]);
  expect(changedSelection(whom("a", "b"), whom("a"))).toEqual(["2 were selected, 1 are now"]);
  const pairs = (snapshot: string, ...people: string[]) => ({
    snapshot,
    list: people.map((person) => ({ person, account: "a" }) as Schemas["Question"]),
  });
  expect(changedPairs(pairs("1", "x"), pairs("1", "x"))).toEqual([]);
  expect(changedPairs(pairs("1", "x", "y"), pairs("2", "y", "z"))).toEqual(["1 pair left the list", "1 pair came"]);
  expect(changedPairs(pairs("1", "x"), pairs("2", "x"))).toEqual(["A record or a ruling has changed"]);
});

test("a system that would be another by the time it is opened", () => {
  const system = (version: number, settings: Record<string, string>, writable = false) =>
    ({ version, settings, writable }) as Schemas["System"];
  expect(changedSystem(system(1, { url: "a" }), system(1, { url: "a" }))).toEqual([]);
  expect(changedSystem(system(1, { url: "a" }), system(2, { url: "b", page: "5" }))).toEqual(["url is b, was a", "page is 5, was not set"]);
  expect(changedSystem(system(1, {}), system(2, {}, true))).toEqual(["It is open for writing"]);
  expect(changedSystem(system(1, {}), system(2, {}))).toEqual(["Its settings were saved again"]);
  const due = (day: string) => ({ due: day, reason: "left" }) as Schemas["Intention"];
  expect(changedIntention(due("2026-12-01"), due("2026-12-02"))).toEqual(["It is due on 2026-12-02, not on 2026-12-01"]);
});
