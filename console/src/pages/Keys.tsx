import { useSearchParams } from "react-router";
import type { Schemas } from "../data/client";
import { useKeySurvey, useSystems } from "../data/queries";
import { List } from "../ui/list";
import { Button, Empty, Head, Loading, Select, Trouble, thousands } from "../ui/parts";

type Key = Schemas["SurveyKey"];

/** Before any charter: which attributes of two systems identify, and how well. */
export function KeysPage() {
  const [params, setParams] = useSearchParams();
  const systems = useSystems();
  const people = params.get("people") ?? "";
  const accounts = params.get("accounts") ?? "";
  const survey = useKeySurvey(people, accounts);
  const pick = (side: string) => (v: string) => setParams({ people, accounts, [side]: v });
  return (
    <>
      <Head
        trail={[["/systems", "Systems"]]}
        title="Key survey"
        about="Which attributes identify, before there is a charter: how many records carry one, how often a value is one record's alone, and what it would pair."
      />
      <div className="mb-3 flex items-center gap-3">
        {(["people", "accounts"] as const).map((side) => (
          <span key={side} className="flex items-center gap-1.5">
            <span className={side === "people" ? "text-larkspur" : "text-lichen"}>{side} of</span>
            <Select label={`${side} of`} value={side === "people" ? people : accounts} onChange={pick(side)}>
              <option value="">choose a system</option>
              {systems.data?.items.map((s) => (
                <option key={s.name} value={s.name}>
                  {s.name}
                </option>
              ))}
            </Select>
          </span>
        ))}
      </div>
      {(!people || !accounts) && <Empty>Choose the authority and the downstream.</Empty>}
      {people && accounts && survey.isPending && <Loading />}
      {survey.error && <Trouble error={survey.error} />}
      {survey.data && <Keys survey={survey.data} />}
    </>
  );
}

const share = (part: number, whole: number) => (whole ? `${Math.floor((part * 100) / whole)} %` : "");

function Keys({ survey: s }: { survey: Schemas["KeySurvey"] }) {
  const mono = (e: string) => <span className="break-words font-mono text-[12px]">{e}</span>;
  return (
    <>
      {s.keys.length === 0 && <Empty>The two share no value at all. Are these the right systems, and have both been read lately?</Empty>}
      {s.keys.length > 0 && (
        <List<Key>
          label="keys"
          height="46vh"
          rows={s.keys}
          rowKey={(k) => `${k.person} ${k.account}`}
          columns={[
            { name: "of the people", width: "1.4fr", cell: (k) => mono(k.person) },
            { name: "carry it", width: "60px", right: true, cell: (k) => share(k.personFilled, s.people) },
            { name: "alone", width: "60px", right: true, cell: (k) => share(k.personUnique, k.personFilled) },
            { name: "pairs", width: "70px", right: true, cell: (k) => <span className="font-medium">{thousands(k.pairs)}</span> },
            { name: "new", width: "60px", right: true, cell: (k) => thousands(k.onlyHere) },
            { name: "shared", width: "60px", right: true, cell: (k) => thousands(k.shared) },
            {
              name: "contradict",
              width: "80px",
              right: true,
              cell: (k) => <span className={k.disagree > 0 ? "text-ochre" : ""}>{thousands(k.disagree)}</span>,
            },
            { name: "alone", width: "60px", right: true, cell: (k) => share(k.accountUnique, k.accountFilled) },
            { name: "carry it", width: "60px", right: true, cell: (k) => share(k.accountFilled, s.accounts) },
            { name: "of the accounts", width: "1.4fr", cell: (k) => mono(k.account) },
          ]}
        />
      )}
      {s.keys.length > 0 && (
        <section className="mt-4" aria-label="suggestion">
          <h2>A pairing section to start from</h2>
          {s.suggested ? (
            <>
              <pre className="my-1 overflow-x-auto border-hair border-y py-2 font-mono text-[12px]" tabIndex={0}>
                {s.suggested}
              </pre>
              <Button onClick={() => navigator.clipboard?.writeText(s.suggested)}>Copy it</Button>
            </>
          ) : (
            <p className="text-soft">
              Nothing here identifies on both sides: what pairs is made of names, which namesakes share. Ask the systems' owners for a
              number that both keep.
            </p>
          )}
        </section>
      )}
    </>
  );
}
