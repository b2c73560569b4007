import createClient from "openapi-fetch";
import type { components, paths } from "../api/schema";

export type Schemas = components["schemas"];
export type Lane = Schemas["Lane"];
export type Plan = Schemas["Plan"];
export type Change = Schemas["Change"];
export type Task = Schemas["Task"];
export type Guard = Schemas["Guard"];
export type Problem = Schemas["Problem"];

export const api = createClient<paths>({ baseUrl: "/v1" });

/** What went wrong, in the service's own words. */
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.title);
  }
}

/** What is known of an act whose answer never came. */
export const unheard = new Refusal({
  type: "about:blank",
  title: "The service did not answer: it is not known whether this was done",
  status: 0,
  next: "Look at what is there once it answers, then decide again. Nothing is sent again by itself.",
});

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** The data of an answer; a problem is thrown. */
export async function ask<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new Refusal({
      type: "about:blank",
      title: "The service does not answer",
      status: 0,
      next: "Is it running? This page tries again by itself.",
    });
  }
  if (answer.response.ok) return answer.data as T;
  const told = answer.error as Problem | undefined;
  throw new Refusal(
    told?.title ? told : { type: "about:blank", title: `The service answered ${answer.response.status}`, status: answer.response.status },
  );
}

/** How a reconciliation would differ by a charter; where a task finds out, it is waited for. */
export async function compareCharter(lane: string, source: string, signal: AbortSignal): Promise<Schemas["CharterComparison"]> {
  const path = { lane };
  const answer = await ask<Schemas["CharterComparison"] | Task>(
    api.POST("/lanes/{lane}/charter-comparisons", { params: { path }, body: { source }, signal }),
  );
  if (!("state" in answer)) return answer;
  // whoever writes on compares something else: who may has it stopped
  signal.addEventListener("abort", () => api.POST("/tasks/{task}/halt", { params: { path: { task: answer.id } } }).catch(() => {}));
  for (let task = answer; ; task = await ask(api.GET("/tasks/{task}", { params: { path: { task: answer.id } }, signal }))) {
    if (task.state === "finished")
      return ask(api.GET("/lanes/{lane}/charter-comparisons/{task}", { params: { path: { ...path, task: task.id } }, signal }));
    if (task.ended) throw new Refusal({ type: "about:blank", title: "The charters were not compared", detail: task.message, status: 0 });
    await new Promise((resolve) => setTimeout(resolve, 500));
  }
}

/** What of a system is sent back as it is, whatever else of it changes. */
export const asItIs = (s: Schemas["System"]) => ({
  atOnce: s.atOnce,
  perSecond: s.perSecond,
  keepDays: s.keepDays,
  namespace: s.namespace,
  secretUntil: s.secretUntil,
  title: s.title,
});

const asFile = (file: File) => ({
  body: file as unknown as string,
  headers: { "Content-Type": "application/octet-stream" },
  bodySerializer: (b: unknown) => b as BodyInit,
});

/** Loads a sheet with new values: a plan is drafted of it, in a large lane by a task. */
export const loadSheet = (lane: string, file: File, intent: "add" | "update" | "both", reason: string) =>
  ask<Plan | Task>(
    api.POST("/lanes/{lane}/sheets", {
      params: { path: { lane }, query: { name: file.name, intent, reason: reason || undefined } },
      ...asFile(file),
    }),
  );

/** Loads what was decided about a plan in a sheet of it. */
export const decideBySheet = (plan: number, file: File) =>
  ask(api.POST("/plans/{plan}/sheets", { params: { path: { plan }, query: { name: file.name } }, ...asFile(file) }));

/** Leaves a file with the service for a day, for a preview and a roster. */
export const sendFile = (system: string, file: File) =>
  ask(
    api.POST("/systems/{system}/files", {
      params: { path: { system } },
      ...asFile(file),
    }),
  );
