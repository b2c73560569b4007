import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { useAct, useFacing, useMay, useWhy } from "../data/queries";
import { EvidenceBars } from "../ui/evidence";
import { FacingRecord, FacingRows } from "../ui/facing";
import { Glyph, StateWord } from "../ui/glyph";
import { Id } from "../ui/list";
import { Button, Head, Loading, Trouble } from "../ui/parts";

const words: Record<string, string> = {
  agree: "agree",
  differ: "differ",
  "person-blank": "the person has none",
  "account-blank": "the account has none",
  "both-blank": "neither has one",
};

export function WhyPage() {
  const { lane = "" } = useParams();
  const [params, setParams] = useSearchParams();
  const why = useWhy(lane, params.get("person") ?? undefined, params.get("account") ?? undefined);
  if (why.isPending) return <Loading />;
  if (!why.data) return <Trouble error={why.error} />;
  const w = why.data;
  return (
    <>
      <Head
        trail={[
          ["/", "Lanes"],
          [`/lanes/${lane}`, lane],
        ]}
        title={w.person?.label || w.account?.label || "Why"}
        about={
          <>
            <StateWord state={w.state} />
            {w.basis && `, ${w.basis}`}
            {w.note && `: ${w.note}`}
          </>
        }
      />
      <section aria-label="side by side" className="border-hair border-y">
        <div className="grid grid-cols-[1fr_130px_1fr] gap-3 border-hair border-b py-2">
          <FacingRecord side="larkspur" record={w.person} none="no person" />
          <span />
          <FacingRecord side="lichen" record={w.account} none="no account" />
        </div>
        {w.keys.map((k) => (
          <div key={k.key} className="grid grid-cols-[1fr_130px_1fr] items-baseline gap-3 py-0.5" data-state={k.verdict}>
            <span className="text-right font-mono text-[12px]">{k.person || "—"}</span>
            <span
              className={`border-hair border-x text-center ${k.verdict === "agree" ? "font-semibold" : k.verdict === "differ" ? "text-madder" : "text-soft"}`}
            >
              {k.key}: {words[k.verdict]}
            </span>
            <span>
              <span className="font-mono text-[12px]">{k.account || "—"}</span>
              {k.sharedPeople.length + k.sharedAccounts.length > 0 && (
                <span className="ml-2 text-ochre">
                  <Glyph state="contested" /> also carried by{" "}
                  {[...k.sharedPeople.map((p) => `person ${p}`), ...k.sharedAccounts.map((a) => `account ${a}`)].join(", ")}
                </span>
              )}
            </span>
          </div>
        ))}
        <div className="my-1 border-hair border-t" />
        <FacingRows attributes={w.attributes} />
      </section>
      <div className="mt-4 grid grid-cols-2 gap-8">
        <section>
          {w.evidence && <Evidence lane={lane} evidence={w.evidence} />}
          <h2>Findings</h2>
          {w.findings.length === 0 && <p className="text-soft">None about these two.</p>}
          <ul>
            {w.findings.map((f) => (
              <li key={f.id} className="border-hair border-b py-1">
                <span className="font-medium">{f.code}</span> {f.detail !== w.note && f.detail}
                <p className="text-soft">{f.remedy}</p>
              </li>
            ))}
          </ul>
          {w.proposals.length > 0 && <h2 className="mt-4">To be judged</h2>}
          {w.proposals.map((p) => (
            <button
              key={p.person + p.account}
              type="button"
              className="block w-full border-hair border-b py-1 text-left hover:bg-wash"
              onClick={() => setParams({ person: p.person, account: p.account })}
            >
              {p.personLabel} <Id>{p.person}</Id> and {p.accountLabel} <Id>{p.account}</Id>
              {p.reason !== w.note && <span className="block text-soft">{p.reason}</span>}
            </button>
          ))}
        </section>
        <Judge lane={lane} why={w} />
      </div>
    </>
  );
}

/** What the records say of each other, who else came close, and what would change it. */
function Evidence({ lane, evidence: e }: { lane: string; evidence: Schemas["Evidence"] }) {
  return (
    <div className="mb-4">
      {e.said.length > 0 && (
        <>
          <h2>
            Evidence{" "}
            <span className="font-normal text-soft">
              weights {e.weightsVersion}
              {e.probability !== undefined && `, probability ${e.probability.toFixed(4)}`}
            </span>
          </h2>
          <EvidenceBars said={e.said} bits={e.bits} needed={e.needed} />
        </>
      )}
      {e.others.length > 0 && <h2 className="mt-3">Who else came close</h2>}
      {e.others.map((o) => (
        <Link
          key={o.person + o.account}
          to={`/lanes/${lane}/why?${new URLSearchParams({ person: o.person, account: o.account })}`}
          className="block border-hair border-b py-1 hover:bg-wash"
        >
          {o.personLabel} <Id>{o.person}</Id> and {o.accountLabel} <Id>{o.account}</Id>{" "}
          <span className="text-soft">
            {o.bits.toFixed(1)} bits: {o.why}
          </span>
        </Link>
      ))}
      {e.change.length > 0 && <h2 className="mt-3">What would change it</h2>}
      <ul>
        {e.change.map((c) => (
          <li key={c}>{c}</li>
        ))}
      </ul>
    </div>
  );
}

/** The desk where a human decides about the two records above. */
function Judge({ lane, why }: { lane: string; why: Schemas["Why"] }) {
  const may = useMay();
  const [reason, setReason] = useState("");
  const [said, setSaid] = useState("");
  const shown = useFacing(lane, why.person?.id, why.account?.id);
  const rule = useAct(
    (kind: "same" | "different") =>
      ask(
        api.POST("/lanes/{lane}/rulings", {
          params: { path: { lane } },
          body: { kind, person: why.person?.id, account: why.account?.id, reason, seen: shown.data?.version },
        }),
      ),
    (r: Schemas["Ruling"]) => setSaid(`Ruled ${r.kind}. It shows from the next reconciliation on.${r.leaves ? ` ${r.leaves}.` : ""}`),
  );
  const clear = useAct((ruling: number) => ask(api.DELETE("/lanes/{lane}/rulings/{ruling}", { params: { path: { lane, ruling } } })));
  return (
    <section>
      <h2>Decide</h2>
      {why.rulings.map((r) => (
        <div key={r.id} className="flex items-baseline gap-3 border-hair border-b py-1">
          <p className="flex-1">
            {r.by} ruled <b>{r.kind}</b>: {r.reason}
          </p>
          <Button disabled={!may("work") || clear.isPending} onClick={() => clear.mutate(r.id)}>
            Clear ruling {r.id}
          </Button>
        </div>
      ))}
      {clear.error && <Trouble error={clear.error} />}
      {why.person && why.account ? (
        <>
          <label className="mt-2 block">
            Reason (somebody will ask in a year)
            <input
              value={reason}
              onChange={(e) => setReason(e.target.value)}
              className="mt-1 block h-7 w-full rounded-sm border border-hair bg-leaf px-2"
            />
          </label>
          {rule.error && <Trouble error={rule.error} />}
          {said && <p role="status">{said}</p>}
          <div className="mt-2 flex gap-2">
            <Button disabled={!may("work") || !reason.trim()} onClick={() => rule.mutate("same")}>
              They are the same human
            </Button>
            <Button disabled={!may("work") || !reason.trim()} onClick={() => rule.mutate("different")}>
              They are different
            </Button>
          </div>
        </>
      ) : (
        <p className="text-soft">Nobody stands on the other side; there is no pair to rule on.</p>
      )}
    </section>
  );
}
