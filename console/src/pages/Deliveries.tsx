import { useRef } from "react";
import { useNavigate } from "react-router";
import { api, ask, type Schemas } from "../data/client";
import { useAct, useDeliveries, useMay } from "../data/queries";
import { AskFor } from "../ui/asking";
import { Confirm } from "../ui/confirm";
import { Id, List, Mark, useMarks } from "../ui/list";
import { Button, Empty, Loading, many, Search, Trouble, When } from "../ui/parts";
import { Value } from "../ui/value";

type Delivery = Schemas["Delivery"];

/** What became of a delivery, and what to do where that was nothing good. */
const states: Record<Delivery["state"], [words: string, tone: string]> = {
  meant: ["about to go", "text-soft"],
  sending: ["may not have left: ask its holder", "text-ochre"],
  sent: ["sent", ""],
  "not-sent": ["not sent", "text-madder"],
  "in-doubt": ["in doubt: settle it, then reissue", "text-madder"],
  kept: ["waits to be collected", "text-ochre"],
  collected: ["collected", ""],
  gone: ["nobody collected it in time", "text-madder"],
  accepted: ["accepted", ""],
  stale: ["not accepted in time", "text-ochre"],
};

/** Secrets and invitations that were sent to the holders of accounts, the newest first. */
export function Deliveries({
  lane,
  q,
  height,
  set,
}: {
  lane: string;
  q: string;
  height: string;
  set: (next: Record<string, string>) => void;
}) {
  const list = useDeliveries(lane, q);
  const go = useNavigate();
  const { marked, flip } = useMarks();
  const { rows, awaited } = list;
  if (list.isPending) return <Loading />;
  if (list.error && !list.first) return <Trouble error={list.error} />;
  if (rows.length === 0 && q === "" && !awaited)
    return (
      <Empty>
        <p>Nobody was sent a secret or an invitation.</p>
        <p>Select accounts, then “Act on…”: reissue or invite. The charter says how they go (secrets:, invitations:).</p>
      </Empty>
    );
  const waiting = rows.filter((d) => d.state === "kept");
  const key = (d: Delivery) => `${d.run} ${d.number}`;
  const accounts = [...new Set(rows.filter((d) => marked.has(key(d))).map((d) => d.account))];
  return (
    <>
      <div className="mb-2 flex items-center gap-3">
        <Search label="Search what was sent" value={q} onChange={(v) => set({ q: v })} />
        {[...new Set(waiting.map((d) => d.run))].map((run) => (
          <Collect key={run} run={run} count={waiting.filter((d) => d.run === run).length} whole={!list.more && q === "" && !awaited} />
        ))}
        <span className="grow" />
        {accounts.length > 0 && (
          <AskFor
            lane={lane}
            count={accounts.length}
            what={accounts.length === 1 ? "account" : "accounts"}
            whom={{ accountIds: accounts }}
            awaited={awaited}
            first="invite"
          />
        )}
      </div>
      <List
        label="deliveries"
        height={height}
        rows={rows}
        rowKey={key}
        more={list.more}
        awaited={awaited}
        marked={marked}
        open={(d) => go(`/lanes/${lane}/why?account=${encodeURIComponent(d.account)}`)}
        mark={(d) => flip(key(d))}
        columns={[
          {
            name: "mark",
            quiet: true,
            width: "28px",
            cell: (d) => <Mark on={marked.has(key(d))} label={`mark ${d.label}`} change={() => flip(key(d))} />,
          },
          { name: "at", width: "110px", cell: (d) => <When at={d.at} /> },
          { name: "verb", width: "76px", cell: (d) => d.verb },
          {
            name: "whose",
            width: "1.2fr",
            cell: (d) => (
              <>
                <span>{d.label}</span> <Id>{d.login}</Id>
              </>
            ),
          },
          {
            name: "how",
            width: "1.6fr",
            cell: (d) => (
              <>
                <Value>{d.to ?? "in a file"}</Value>
                {d.sponsor && <span className="text-soft">, vouched for by {d.sponsor}</span>}
              </>
            ),
          },
          {
            name: "what became of it",
            width: "1.4fr",
            cell: (d) => (
              <span className={states[d.state][1]}>
                {states[d.state][0]}
                {d.until && (d.state === "kept" || (d.state === "sent" && d.verb === "invite")) && (
                  <>
                    , until <When at={d.until} />
                  </>
                )}
                {d.collectedBy && ` by ${d.collectedBy}`}
                {d.times > 1 && `, the ${d.times}th time`}
              </span>
            ),
          },
          { name: "run", width: "56px", cell: (d) => d.run },
        ]}
      />
    </>
  );
}

/** Takes the secrets of a run as a file, once. The count is of all that wait only where the whole list is shown. */
function Collect({ run, count, whole }: { run: number; count: number; whole: boolean }) {
  const may = useMay();
  const passphrase = useRef(""); // handed to the act, and to nothing that keeps it
  const take = useAct(async (expected: number | undefined) => {
    const body = { passphrase: passphrase.current, count: expected };
    passphrase.current = "";
    const file = await ask(
      api.POST("/runs/{run}/secrets", { params: { path: { run } }, body, parseAs: "blob" }) as Promise<{
        data?: Blob;
        response: Response;
      }>,
    );
    const at = URL.createObjectURL(file);
    const link = document.createElement("a");
    link.href = at;
    link.download = `run-${run}-secrets.csv.age`;
    link.click();
    URL.revokeObjectURL(at);
  });
  const of = (n: number) => (whole ? many(n, "secret") : "the secrets");
  return (
    <Confirm
      trigger={
        <Button disabled={!may("seal")}>
          Collect {of(count)} of run {run}…
        </Button>
      }
      about={whole ? count : undefined}
      differs={(pinned, now) =>
        pinned === undefined || now === undefined || pinned === now ? [] : [`${pinned} waited to be collected, ${now} wait now`]
      }
      ask={(count) => ({
        title: `Collect ${of(count ?? 0)} of run ${run}`,
        act: "Take the file",
        secret: "Passphrase that the file is encrypted to",
        body: (
          <p>
            The file is given out once; after that nobody can take these secrets again, and whoever lost it reissues them. Tell the
            passphrase on another way than the file. <span className="font-mono">twinning delivery open</span> reads it, as does any program
            that knows age-encryption.org/v1.
          </p>
        ),
      })}
      busy={take.isPending}
      error={take.error}
      confirm={(count, given) => {
        passphrase.current = given;
        return take.mutateAsync(count);
      }}
    />
  );
}
