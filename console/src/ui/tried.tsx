import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useMemo, useState } from "react";
import { api, ask, compareCharter, Refusal, type Schemas } from "../data/client";
import type { Mistake } from "./editor";
import { Button, Loading, Trouble, thousands } from "./parts";

const CharterEditor = lazy(() => import("./editor"));

/** What is wrong with a charter, or only to be noticed, with the places. */
function mistakesOf(error: unknown, checked?: Schemas["CharterCheck"]): Mistake[] {
  if (error instanceof Refusal)
    return (error.problem.errors ?? []).flatMap((e) =>
      e.line ? [{ line: e.line, column: e.column ?? 1, message: e.detail, harm: true }] : [],
    );
  return (checked?.notes ?? []).map((n) => ({ line: n.line, column: n.column, message: n.message, harm: false }));
}

/** A charter beside what it makes of somebody: what is changed here is tried, and never kept. */
export function TriedCharter({ lane, source }: { lane: string; source: string }) {
  const [text, setText] = useState(source);
  const [person, setPerson] = useState("");
  const [asked, setAsked] = useState({ text: source, person: "" });
  useEffect(() => {
    const t = setTimeout(() => setAsked({ text, person: person.trim() }), 400); // not at every letter
    return () => clearTimeout(t);
  }, [text, person]);
  const changed = text !== source;
  const tried = useQuery({
    queryKey: ["tried", lane, asked.person, asked.text],
    queryFn: () =>
      ask(
        api.POST("/lanes/{lane}/charter-tries", {
          params: { path: { lane } },
          body: { personId: asked.person, source: asked.text === source ? undefined : asked.text },
        }),
      ),
    enabled: asked.person !== "",
    placeholderData: keepPreviousData,
    retry: false,
  });
  const vocabulary = useQuery({
    queryKey: ["vocabulary", lane],
    queryFn: () => ask(api.GET("/lanes/{lane}/vocabulary", { params: { path: { lane } } })),
    staleTime: 60_000,
  });
  const checked = useQuery({
    queryKey: ["checked", asked.text],
    queryFn: () => ask(api.POST("/charter-checks", { body: { source: asked.text } })),
    retry: false,
  });
  const mistakes = useMemo(() => mistakesOf(checked.error, checked.data), [checked.error, checked.data]);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-8">
      <div>
        <div className="mb-1 flex h-7 items-center gap-3 text-soft">
          {changed ? "Tried, and not kept: store it with twinning charter put FILE" : "Change it here to try it; nothing is kept"}
          {changed && <Button onClick={() => setText(source)}>Back to the one in force</Button>}
        </div>
        <Suspense fallback={<Loading />}>
          <CharterEditor value={text} change={setText} vocabulary={vocabulary.data} mistakes={mistakes} />
        </Suspense>
      </div>
      <div className="sticky top-2 max-h-screen self-start overflow-y-auto">
        <label className="mb-1 flex h-7 items-center gap-3">
          <span className="text-soft">Try it on the person with id</span>
          <input
            className="h-7 w-40 rounded-sm border border-hair bg-leaf px-2 font-mono"
            value={person}
            onChange={(e) => setPerson(e.target.value)}
            placeholder="L0001"
          />
        </label>
        {tried.error && <Trouble error={tried.error} />}
        {!tried.error && tried.data && asked.person !== "" && <Outcome tried={tried.data} />}
        {asked.person === "" && asked.text !== source && <Compared lane={lane} source={asked.text} />}
        {asked.person === "" && asked.text === source && (
          <p className="border-hair border-y py-6 text-soft">
            Every expression is shown step by step, what would be written, and why the rest is not.
          </p>
        )}
      </div>
    </div>
  );
}

function Outcome({ tried }: { tried: Schemas["CharterTry"] }) {
  return (
    <div className="border-hair border-t">
      <p className="py-1.5">
        <span className="text-larkspur">{tried.person.label}</span>
        {tried.account ? (
          <>
            {" "}
            with account <span className="font-mono text-lichen">{tried.account.id}</span>
          </>
        ) : (
          ", who has no account"
        )}
        {": "}
        {tried.changes.length === 0 ? "nothing would change" : tried.changes.map((c) => c.verb).join(", ")}
      </p>
      {tried.findings.map((f) => (
        <p key={f.code + f.detail} className="text-ochre">
          {f.code}: {f.detail}
        </p>
      ))}
      {[...tried.values.filter((v) => v.verb), ...tried.values.filter((v) => !v.verb), ...tried.conditions].map((v) => (
        <section key={v.name} className="border-hair border-t py-1.5">
          <h2 className="flex gap-3">
            <span className="font-medium">{v.name}</span>
            <span className="font-normal text-soft">
              {v.rule && `${v.rule}, `}line {v.line}
            </span>
          </h2>
          {v.tries.map((steps, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: choices have no other name than their place
            <table key={i} className={`w-full table-fixed ${i > 0 ? "mt-1 border-hair border-t border-dotted" : ""}`}>
              <tbody>
                {steps.map((s) => (
                  <tr key={s.source} className="align-top">
                    <td className="w-3/5 break-words pr-3 font-mono text-[12px] text-soft">{s.source}</td>
                    <td className="break-words">
                      {s.fault ? (
                        <span className="text-soft">nothing: {s.fault}</span>
                      ) : (
                        s.value || <span className="text-soft">nothing</span>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          ))}
          {v.rule && (
            <p>
              {v.verb ? (
                <>
                  {v.verb}: {v.now && <del className="text-soft">{v.now}</del>}{" "}
                  <ins className="underline underline-offset-2">{v.written}</ins>
                </>
              ) : (
                <span className="text-soft">not written: {v.why}</span>
              )}
            </p>
          )}
        </section>
      ))}
    </div>
  );
}

/** How a reconciliation would differ by a charter that is not kept. */
function Compared({ lane, source }: { lane: string; source: string }) {
  const compared = useQuery({
    queryKey: ["compared", lane, source],
    queryFn: ({ signal }) => compareCharter(lane, source, signal),
    placeholderData: keepPreviousData,
    retry: false,
  });
  if (compared.error) return <Trouble error={compared.error} />;
  if (!compared.data) return <p className="border-hair border-y py-6 text-soft">Reconciling by both charters…</p>;
  const w = compared.data;
  const rows = (
    [
      ["people", w.people],
      ["accounts", w.accounts],
      ["findings", w.findings],
      ["changes", w.changes],
      ["", [w.withheld]],
    ] as const
  ).flatMap(([what, list]) => list.filter((x) => x.now !== x.after).map((x) => ({ what, ...x })));
  return (
    <div className="border-hair border-t" aria-live="polite">
      {rows.length > 0 ? (
        <table className="w-full border-hair border-b">
          <caption className="sr-only">what would be counted by the charter in force, and by this one</caption>
          <thead>
            <tr>
              <th className="text-left">what differs</th>
              <th className="text-left">
                <span className="sr-only">which</span>
              </th>
              <th className="text-right">now</th>
              <th className="text-right">after</th>
              <th className="text-right">more</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((x) => (
              <tr key={`${x.what} ${x.name}`}>
                <td className="text-soft">{x.what}</td>
                <td>{x.name}</td>
                <td className="text-right">{thousands(x.now)}</td>
                <td className="text-right">{thousands(x.after)}</td>
                <td className="text-right">{(x.after > x.now ? "+" : "−") + thousands(Math.abs(x.after - x.now))}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : (
        <p className="border-hair border-b py-2">Balance, findings and changes are as many as they are now.</p>
      )}
      {w.guards.map((g) => (
        <p key={g} className="border-hair border-b py-2 text-ochre">
          A guard would stop the plan: {g}
        </p>
      ))}
      {w.differ > 0 && (
        <>
          <h2 className="mt-4 mb-1 font-semibold">{w.differ === 1 ? "1 change differs" : `${thousands(w.differ)} changes differ`}</h2>
          <ul className="border-hair border-t">
            {w.examples.map((x) => (
              <li key={`${x.verb} ${x.person} ${x.account}`} className="border-hair border-b py-1">
                {x.verb}{" "}
                <span className="font-mono">
                  {x.person} {x.account}
                </span>
                <span className="text-soft">{x.now ? (x.after ? "" : " not drafted") : " drafted"}</span>
                {differing(x).map((e) => (
                  <div key={e.attribute} className="pl-4">
                    <span className="text-soft">{e.attribute}</span> {e.now || "–"} → {e.after || "–"}
                  </div>
                ))}
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  );
}

/** The values that a change writes by one of two charters alone, or otherwise by the other. */
function differing(x: Schemas["DraftedTwo"]) {
  const alone = x.now && x.after ? undefined : (x.after ?? x.now);
  if (alone) return alone.map((e) => ({ attribute: e.attribute, now: e.old, after: e.new }));
  const of = (list: Schemas["TriedEdit"][] | undefined) => new Map((list ?? []).map((e) => [e.attribute, e.new]));
  const now = of(x.now);
  const after = of(x.after);
  return [...new Set([...after.keys(), ...now.keys()])]
    .filter((a) => now.get(a) !== after.get(a))
    .map((attribute) => ({ attribute, now: now.get(attribute), after: after.get(attribute) }));
}
