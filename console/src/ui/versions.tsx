import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../data/client";
import { keys, useAct, useMay } from "../data/queries";
import { Confirm } from "./confirm";
import { Button, Trouble, When } from "./parts";

/** The versions of a lane's charter, newest first: who gave each, why, and what it changed. */
export function Versions({ lane, newest }: { lane: string; newest: number }) {
  const may = useMay();
  const [shown, show] = useState<number>();
  const list = useQuery({
    queryKey: keys.laneList(lane, "charter-versions", { newest }),
    queryFn: () => ask(api.GET("/lanes/{lane}/charter-versions", { params: { path: { lane }, query: { limit: 20 } } })),
  });
  const back = useAct(async ({ version, newest, why }: { version: number; newest: number; why: string }) => {
    const former = await ask(api.GET("/lanes/{lane}/charter", { params: { path: { lane }, query: { version } } }));
    return ask(
      api.PUT("/lanes/{lane}/charter", {
        params: { path: { lane }, header: { "If-Match": `"${newest}"` } },
        body: { source: former.source, note: `back to version ${version}: ${why}` },
      }),
    );
  });
  if (list.error) return <Trouble error={list.error} />;
  return (
    <section className="mt-6">
      <h2 className="mb-1 font-semibold">Versions</h2>
      <ul className="border-hair border-t">
        {list.data?.items.map((v) => (
          <li key={v.version} className="border-hair border-b py-1">
            <div className="flex items-baseline gap-3">
              <span className="w-8 text-right">{v.version}</span>
              <span className="w-36 text-soft">
                <When at={v.at} />
              </span>
              <span className="w-28">{v.by}</span>
              <span className="grow">{v.note}</span>
              <Button
                aria-label={`${shown === v.version ? "Hide" : "What it changed"}: version ${v.version}`}
                aria-expanded={shown === v.version}
                onClick={() => show(shown === v.version ? undefined : v.version)}
              >
                {shown === v.version ? "Hide" : "What it changed"}
              </Button>
              {v.version < newest && may("work") && (
                <Confirm
                  trigger={<Button aria-label={`Return to it…: version ${v.version}`}>Return to it…</Button>}
                  about={newest}
                  differs={(pinned, now) => (pinned === now ? [] : [`The newest version was ${pinned}, it is ${now}`])}
                  ask={(newest) => ({
                    title: `Go by version ${v.version} again`,
                    act: `Give it as version ${newest + 1}`,
                    reason: "Reason",
                    body: <p>The versions between stay, and nothing is written before a plan is sealed and run.</p>,
                  })}
                  busy={back.isPending}
                  error={back.error}
                  confirm={(newest, why) => back.mutateAsync({ version: v.version, newest, why })}
                />
              )}
            </div>
            {shown === v.version && <Changed lane={lane} version={v.version} />}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Changed({ lane, version }: { lane: string; version: number }) {
  const diff = useQuery({
    queryKey: keys.laneList(lane, "charter-diff", { version }),
    queryFn: () => ask(api.GET("/lanes/{lane}/charter-diff", { params: { path: { lane }, query: { to: version } } })),
  });
  if (diff.error) return <Trouble error={diff.error} />;
  return (
    <pre className="mt-1 whitespace-pre-wrap font-mono text-xs">
      {diff.data?.diff
        .split("\n")
        .slice(2)
        .map((line, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: lines of a text that does not change
          <div key={i} className={line.startsWith("+") ? "text-lichen" : line.startsWith("-") ? "text-madder" : "text-soft"}>
            {line}
          </div>
        ))}
    </pre>
  );
}
