import { useNavigate } from "react-router";
import { useMay, useSystems } from "../data/queries";
import { List } from "../ui/list";
import { Button, Empty, Head, Loading, Titled, Trouble, thousands, When } from "../ui/parts";

export function SystemsPage() {
  const systems = useSystems();
  const go = useNavigate();
  const may = useMay();
  return (
    <>
      <Head title="Systems" about="Places that hold identities. A new one is read-only until somebody opens it for writing.">
        <Button onClick={() => go("/keys")}>Survey keys</Button>
        {may("administer") && <Button onClick={() => go("/new-system")}>New system</Button>}
      </Head>
      {systems.isPending && <Loading />}
      {systems.error && !systems.data && <Trouble error={systems.error} />}
      {systems.data?.items.length === 0 && (
        <Empty>
          No system yet. Make a new one here, or by{" "}
          <code className="font-mono">twinning system put hq --kind file --set path=/data/hq.csv</code>
        </Empty>
      )}
      {systems.data && systems.data.items.length > 0 && (
        <List
          label="systems"
          rows={systems.data.items}
          rowKey={(s) => s.name}
          open={(s) => go(`/systems/${s.name}`)}
          columns={[
            { name: "system", width: "1.2fr", cell: (s) => <Titled name={s.name} title={s.title} /> },
            { name: "kind", width: "80px", cell: (s) => s.kind },
            { name: "writing", width: "110px", cell: (s) => (s.writable ? "open" : "read-only") },
            { name: "records", width: "90px", right: true, cell: (s) => (s.records === undefined ? "—" : thousands(s.records)) },
            { name: "rejected", width: "90px", right: true, cell: (s) => (s.latest ? thousands(s.latest.rejected) : "—") },
            { name: "last roster", width: "120px", cell: (s) => <When at={s.latest?.ended} /> },
            { name: "notes", width: "2fr", cell: (s) => <span className="text-soft">{s.notes.join("; ")}</span> },
          ]}
        />
      )}
    </>
  );
}
