import { useTasks } from "../data/queries";
import { Glyph } from "../ui/glyph";
import { List } from "../ui/list";
import { Empty, Head, Loading, Trouble, thousands, When } from "../ui/parts";

export function TasksPage() {
  const tasks = useTasks();
  return (
    <>
      <Head title="Tasks" about="What goes on in the background, and how it ended." />
      {tasks.isPending && <Loading />}
      {tasks.error && !tasks.data && <Trouble error={tasks.error} />}
      {tasks.data?.items.length === 0 && <Empty>Nothing has been done yet.</Empty>}
      {tasks.data && tasks.data.items.length > 0 && (
        <List
          label="tasks"
          height="calc(100vh - 180px)"
          rows={tasks.data.items}
          rowKey={(t) => String(t.id)}
          columns={[
            { name: "task", width: "60px", right: true, cell: (t) => t.id },
            { name: "name", width: "1.6fr", cell: (t) => t.name },
            {
              name: "state",
              width: "110px",
              cell: (t) => (
                <span className={t.state === "failed" ? "text-madder" : ""}>
                  {t.state === "failed" && <Glyph state="harm" />} {t.state}
                </span>
              ),
            },
            { name: "by", width: "100px", cell: (t) => t.by },
            { name: "began", width: "100px", cell: (t) => <When at={t.started} /> },
            { name: "ended", width: "100px", cell: (t) => (t.ended ? <When at={t.ended} /> : "") },
            { name: "done", width: "90px", right: true, cell: (t) => `${thousands(t.done)}/${thousands(t.total)}` },
            { name: "good", width: "70px", right: true, cell: (t) => thousands(t.good) },
            { name: "bad", width: "70px", right: true, cell: (t) => thousands(t.bad) },
            { name: "message", width: "2fr", cell: (t) => t.message },
          ]}
        />
      )}
    </>
  );
}
