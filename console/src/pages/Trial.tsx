import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, ask, Refusal, type Schemas } from "../data/client";
import { useAct, useMay, useTask, useTrial } from "../data/queries";
import { Id } from "../ui/list";
import { Button, Empty, Head, Loading, Trouble, thousands, When } from "../ui/parts";

type Report = Schemas["TrialReport"];

/** What a trial found: whether probabilities are true here, and what each threshold would cost. */
export function TrialPage() {
  const { lane = "" } = useParams();
  const may = useMay();
  const [task, setTask] = useState<number>();
  const progress = useTask(task);
  const trial = useTrial(lane, task !== undefined && progress?.ended === undefined);
  const make = useAct(
    () => ask(api.POST("/lanes/{lane}/trial", { params: { path: { lane } } })),
    (t: Schemas["Task"]) => setTask(t.id),
  );
  const keep = useAct((id: number) => ask(api.PUT("/lanes/{lane}/trial/kept", { params: { path: { lane } }, body: { id } })));
  if (trial.isPending) return <Loading />;
  const none = trial.error instanceof Refusal && trial.error.problem.status === 404;
  if (!trial.data && !none) return <Trouble error={trial.error} />;
  const working = task !== undefined && progress?.ended === undefined;
  const t = trial.data;
  return (
    <>
      <Head
        trail={[
          ["/", "Lanes"],
          [`/lanes/${lane}`, lane],
        ]}
        title="Trial of the evidence"
        about={
          t ? (
            <>
              {thousands(t.report.held)} of {thousands(t.report.known)} known twins were held back, and evidence looked for them,{" "}
              <When at={t.at} /> by {t.by}. {thousands(t.report.open)} people are left over for it now.
            </>
          ) : (
            "Known twins are held back, and evidence looks for them."
          )
        }
      >
        <Button disabled={!may("work") || working || make.isPending} onClick={() => make.mutate(undefined)}>
          {working ? "Trying…" : t ? "Try again" : "Make a trial"}
        </Button>
        {t && t.kept === undefined && (
          <Button tone="main" disabled={!may("work") || working || keep.isPending} onClick={() => keep.mutate(t.id)}>
            Keep trial {t.id}
          </Button>
        )}
      </Head>
      {(make.error || keep.error) && <Trouble error={make.error ?? keep.error} />}
      {progress?.state === "failed" && <Trouble error={progress.message} />}
      {!t && (
        <Empty>
          <p>No trial of this lane has been made yet.</p>
          <p>It changes nothing: it shows how true the probabilities are on your own lists, and what joining from each on would cost.</p>
        </Empty>
      )}
      {t && (
        <>
          <p className="mb-3 text-soft">
            {t.kept === undefined
              ? "Nothing was changed by it. Kept, probabilities are told and judged by it from the next reconciliation on."
              : `Kept as weights ${t.kept}: probabilities are told and judged by it.`}
          </p>
          <div className="mb-6 grid grid-cols-[380px_1fr] gap-8">
            <Reliability report={t.report} />
            <div>
              <Thresholds report={t.report} />
              <Kinds report={t.report} lane={lane} />
              <Hesitations report={t.report} />
            </div>
          </div>
        </>
      )}
    </>
  );
}

/** A share as people read it; near 1, where every hundredth counts, with its decimals. */
function share(x: number) {
  if (x === 0 || x === 1) return `${100 * x} %`;
  return x >= 0.985 ? `${(100 * Math.min(x, 0.9999)).toFixed(2)} %` : `${(100 * x).toFixed(1)} %`;
}

const size = 300;

/** Said against true: what lies on the line is true, what lies below it promises too much. */
function Reliability({ report }: { report: Report }) {
  const at = (x: number) => x * size;
  return (
    <figure>
      <h2>How true probabilities are</h2>
      <svg
        viewBox={`-52 -8 ${size + 72} ${size + 42}`}
        className="w-[370px]"
        role="img"
        aria-label="of the pairs said to be so likely, how many are one human; the table beneath has the figures"
      >
        {[0, 0.25, 0.5, 0.75, 1].map((x) => (
          <g key={x}>
            <path d={`M0 ${at(1 - x)}H${size}M${at(x)} 0V${size}`} className="stroke-hair" />
            <text x={-6} y={at(1 - x) + 4} textAnchor="end" className="fill-soft text-[11px]">
              {100 * x} %
            </text>
            <text x={at(x)} y={size + 14} textAnchor="middle" className="fill-soft text-[11px]">
              {100 * x} %
            </text>
          </g>
        ))}
        <path d={`M0 ${size}L${size} 0`} className="stroke-soft" strokeDasharray="4 3" />
        {report.bands.map((b) => (
          <g key={b.from}>
            <path d={`M${at(b.said)} ${at(1 - b.low)}V${at(1 - b.high)}`} className="stroke-ink" />
            <circle cx={at(b.said)} cy={at(1 - b.true)} r={3.5} className="fill-ink">
              <title>{`said ${share(b.said)}, true ${share(b.true)} of ${thousands(b.pairs)} pairs`}</title>
            </circle>
          </g>
        ))}
        <text x={size / 2} y={size + 30} textAnchor="middle" className="fill-soft text-[12px]">
          said
        </text>
        <text x={-42} y={size / 2} textAnchor="middle" transform={`rotate(-90 -42 ${size / 2})`} className="fill-soft text-[12px]">
          true
        </text>
      </svg>
      <table className="w-full border-hair border-y">
        <caption className="sr-only">how true probabilities are</caption>
        <thead>
          <tr>
            <th>probability</th>
            <th className="text-right">said</th>
            <th className="text-right">true</th>
            <th className="text-right">between</th>
            <th className="text-right">pairs</th>
          </tr>
        </thead>
        <tbody>
          {report.bands.map((b) => (
            <tr key={b.from}>
              <td>
                {b.from} – {b.to}
              </td>
              <td className="text-right">{share(b.said)}</td>
              <td className="text-right">{share(b.true)}</td>
              <td className="text-right text-soft">
                {share(b.low)} – {share(b.high)}
              </td>
              <td className="text-right">{thousands(b.pairs)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </figure>
  );
}

function Thresholds({ report }: { report: Report }) {
  return (
    <section>
      <h2>What joining from a probability on would bring</h2>
      <table className="w-full border-hair border-y">
        <caption className="sr-only">what joining from a probability on would bring and cost</caption>
        <thead>
          <tr>
            <th className="text-right">accept</th>
            <th className="text-right">found in the trial</th>
            <th className="text-right">wrong in the trial</th>
            <th className="text-right">would join now</th>
            <th className="text-right">of them wrong</th>
            <th className="text-right">would ask</th>
          </tr>
        </thead>
        <tbody>
          {report.thresholds.map((x) => (
            <tr
              key={x.accept}
              className={x.accept === report.accept ? "bg-wash font-semibold" : ""}
              aria-current={x.accept === report.accept}
            >
              <td className="text-right">
                {x.accept === report.careful && <span className="font-normal text-soft">careful ▸ </span>}
                {x.accept}
              </td>
              <td className="text-right">{share(x.found)}</td>
              <td className="text-right">
                {thousands(x.wrong)} of {thousands(x.joined)}
              </td>
              <td className="text-right">{thousands(x.wouldJoin)}</td>
              <td className="text-right">{x.wouldBeWrong.toFixed(1)}</td>
              <td className="text-right">{thousands(x.wouldAsk)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2 text-soft">
        Two are joined unasked from accept on; the charter says {report.accept} now.
        {report.careful !== undefined &&
          ` From ${report.careful} on (careful), no more than one in ten thousand of all twins is expected to be wrong.`}{" "}
        Below it, down to review ({report.review}), people are asked. Of some twins held back one record was taken away, so that finding
        nobody is right. “Would join now” and “would ask” are pairs of those left over; what of it would be wrong is what the trial lets
        expect.
      </p>
    </section>
  );
}

function Kinds({ report, lane }: { report: Report; lane: string }) {
  return (
    <section className="my-4">
      <h2>Kinds of pairs, those that it is most wrong about first</h2>
      <table className="w-full border-hair border-y">
        <caption className="sr-only">kinds of pairs</caption>
        <thead>
          <tr>
            <th>they agree in</th>
            <th className="pl-5 text-right">said</th>
            <th className="pl-5 text-right">true</th>
            <th className="pl-5 text-right">pairs</th>
            <th className="whitespace-nowrap pl-5 text-right">left over now</th>
          </tr>
        </thead>
        <tbody>
          {report.kinds.slice(0, 10).map((k) => (
            <tr key={k.kind} className="align-top">
              <td>
                {k.kind}
                {k.examples[0] && <Example lane={lane} example={k.examples[0]} />}
              </td>
              <td className="whitespace-nowrap pl-5 text-right">{k.pairs > 0 ? share(k.said) : ""}</td>
              <td className="whitespace-nowrap pl-5 text-right">
                {k.pairs > 0 ? share(k.one / k.pairs) : <span className="text-soft">not met</span>}
              </td>
              <td className="pl-5 text-right">{thousands(k.pairs)}</td>
              <td className="pl-5 text-right">{thousands(k.leftOver)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Example({ lane, example: e }: { lane: string; example: Report["kinds"][number]["examples"][number] }) {
  return (
    <Link
      to={`/lanes/${lane}/why?${new URLSearchParams({ person: e.person, account: e.account })}`}
      className="block text-soft hover:bg-wash"
    >
      {e.personLabel} <Id>{e.person}</Id> and {e.accountLabel} <Id>{e.account}</Id> {e.one ? "are one human" : "are two humans"}, said{" "}
      {e.said.toFixed(3)}
    </Link>
  );
}

function Hesitations({ report }: { report: Report }) {
  const met = report.hesitations.filter((h) => h.pairs > 0);
  if (met.length === 0) return null;
  return (
    <section>
      <h2>Asked about although likely enough</h2>
      <ul>
        {met.map((h) => (
          <li key={h.kind}>
            Because {h.kind}: {thousands(h.one)} of {thousands(h.pairs)} in the trial are one human;{" "}
            {h.settled ? "with the trial kept, nobody is asked for it any more" : "people are still asked"}. Left over now:{" "}
            {thousands(h.leftOver)}.
          </li>
        ))}
      </ul>
    </section>
  );
}
