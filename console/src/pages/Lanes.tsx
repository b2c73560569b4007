import { Link, useNavigate } from "react-router";
import type { Lane } from "../data/client";
import { useLanes } from "../data/queries";
import { Glyph } from "../ui/glyph";
import { List } from "../ui/list";
import { Empty, Head, Loading, Titled, Trouble, thousands, When } from "../ui/parts";

export function LanesPage() {
  const lanes = useLanes();
  const go = useNavigate();
  return (
    <>
      <Head title="Lanes" about="One authority reconciled with one downstream, each by its charter." />
      {lanes.isPending && <Loading />}
      {lanes.error && !lanes.data && <Trouble error={lanes.error} />}
      {lanes.data?.items.length === 0 && (
        <Empty>
          <p>No lane yet.</p>
          <p>
            Register two{" "}
            <Link to="/systems" className="underline">
              systems
            </Link>
            , then give a lane its charter: <code className="font-mono">twinning charter put lane.yaml</code>
          </p>
        </Empty>
      )}
      {lanes.data && lanes.data.items.length > 0 && (
        <List
          label="lanes"
          rows={lanes.data.items}
          rowKey={(l) => l.name}
          open={(l) => go(`/lanes/${l.name}`)}
          columns={[
            { name: "lane", width: "1.3fr", cell: (l) => <Titled name={l.name} title={l.title} /> },
            {
              name: "authority → downstream",
              width: "1.4fr",
              cell: (l) => (
                <>
                  <span className="text-larkspur">{l.authority}</span> → <span className="text-lichen">{l.downstream}</span>
                </>
              ),
            },
            { name: "twinned", width: "80px", right: true, cell: count("people", "twinned") },
            { name: "contested", width: "80px", right: true, cell: count("people", "contested") },
            { name: "missing", width: "80px", right: true, cell: count("people", "missing") },
            { name: "orphan", width: "80px", right: true, cell: count("accounts", "orphan") },
            { name: "would change", width: "1.8fr", cell: (l) => (l.latest ? changes(l.latest.changes) : "") },
            { name: "reconciled", width: "110px", cell: (l) => <When at={l.latest?.at} /> },
            { name: "mode", width: "120px", cell: mode },
          ]}
        />
      )}
    </>
  );
}

const count = (side: "people" | "accounts", state: "twinned" | "contested" | "missing" | "orphan") => (l: Lane) =>
  l.latest ? thousands(l.latest.balance[side][state]) : "—";

export const changes = (m: Record<string, number>) =>
  Object.entries(m)
    .map(([verb, n]) => `${n} ${verb}`)
    .join(", ") || "nothing";

function mode(l: Lane) {
  if (l.latest?.stopped)
    return (
      <span className="text-madder">
        <Glyph state="harm" /> stopped
      </span>
    );
  return l.observing ? <span className="text-soft">only observing</span> : "";
}
