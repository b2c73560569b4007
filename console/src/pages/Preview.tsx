import { useEffect, useRef, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, asItIs, ask, type Schemas, sendFile } from "../data/client";
import { useAct, useMay, useSystem, useTask } from "../data/queries";
import { DropFile } from "../ui/dropfile";
import { Id } from "../ui/list";
import { Button, Facts, Head, Loading, Progress, Select, Trouble, thousands } from "../ui/parts";
import { Columns, Problems, Rows } from "../ui/preview";

type Preview = Schemas["Preview"];
type Input = Schemas["PreviewInput"];

export function PreviewPage() {
  const { system = "" } = useParams();
  const view = useSystem(system);
  const may = useMay();
  const go = useNavigate();
  const [file, setFile] = useState<{ name: string; id: string }>();
  const [p, setPreview] = useState<Preview>(); // the last one stays while the next is made
  const [shape, setShape] = useState("");
  const newest = useRef(""); // the shape that the next look begins with, when several are asked for at once
  const write = (text: string) => {
    newest.current = text;
    setShape(text);
  };
  const [settings, setSettings] = useState<Record<string, string>>({});
  const [task, setTask] = useState<number>();
  const progress = useTask(task, (t) => t.state === "finished" && t.roster && go(`/rosters/${t.roster}`));
  // looks follow each other, each on the shape that the one before it made: two
  // picks made faster than the service answers are both kept
  const look = useAct(
    ({ onShape, ...more }: Omit<Input, "shape"> & { onShape?: boolean }) =>
      ask(
        api.POST("/systems/{system}/preview", {
          params: { path: { system } },
          body: {
            file: file?.id,
            settings: Object.keys(settings).length ? settings : undefined,
            shape: onShape ? newest.current : undefined,
            ...more,
          },
        }),
      ),
    (p: Preview) => {
      setPreview(p);
      write(p.shape);
    },
    `look ${system}`,
  );
  const send = useAct(
    async (f: File) => {
      const sent = await sendFile(system, f);
      setFile({ name: f.name, id: sent.file });
      return sent.file;
    },
    (id: string) => look.mutate({ file: id }),
  );
  const opened = useRef<number>(undefined); // the version that is changed: that of when the page was opened, or what was kept here since
  if (view.data) opened.current ??= view.data.version;
  const keep = useAct(async () => {
    const s = view.data as Schemas["System"];
    const kept = await ask(
      api.PUT("/systems/{system}", {
        params: { path: { system }, header: { "If-Match": `"${opened.current}"` } },
        body: {
          kind: s.kind,
          settings: { ...s.settings, ...settings },
          shape,
          ...asItIs(s),
        },
      }),
    );
    opened.current = kept.version;
  });
  const take = useAct(
    () => ask(api.POST("/systems/{system}/rosters", { params: { path: { system }, query: { file: file?.id } } })),
    (t: Schemas["Task"]) => setTask(t.id),
  );
  const readAs = (s: Record<string, string>) => {
    setSettings(s);
    look.mutate({ settings: s });
  };
  const isFile = view.data?.kind === "file";
  const ready = view.data !== undefined && (!isFile || view.data.settings.path !== undefined);
  // biome-ignore lint/correctness/useExhaustiveDependencies: looked at once when the page opens, then when asked
  useEffect(() => {
    if (ready && may("work")) look.mutate({});
  }, [ready]);
  if (view.isPending) return <Loading />;
  if (!view.data) return <Trouble error={view.error} />;
  const kept = shape === view.data.shape && Object.entries(settings).every(([k, v]) => view.data.settings[k] === v);
  const error = look.error ?? send.error ?? keep.error ?? take.error;
  return (
    <>
      <Head
        trail={[
          ["/systems", "Systems"],
          [`/systems/${system}`, system],
        ]}
        title="Preview"
        about="What would be understood, before it becomes a roster. Nothing is kept until you say so."
      >
        <Button disabled={look.isPending || (!p && !ready)} onClick={() => look.mutate({ onShape: true })}>
          Look again
        </Button>
        {may("administer") && (
          <Button disabled={!p || kept || keep.isPending || look.isPending} onClick={() => keep.mutate(undefined)}>
            {kept && p ? "Shape is kept" : "Keep this shape"}
          </Button>
        )}
        <Button
          tone="main"
          disabled={!p || !kept || look.isPending || take.isPending || (progress && !progress.ended)}
          onClick={() => take.mutate(undefined)}
        >
          {file ? `Take a roster of ${file.name}` : "Take a roster"}
        </Button>
      </Head>
      {isFile && (
        <DropFile
          label="file to look at"
          hint="or drop one here: CSV, JSON Lines, LDIF, SCIM JSON or xlsx, gzip or not"
          name={file?.name}
          busy={send.isPending}
          take={(f) => send.mutate(f)}
        />
      )}
      {error && <Trouble error={error} />}
      {progress && !progress.ended && <Progress done={progress.done} total={progress.total} label="reading" since={progress.started} />}
      {progress?.state === "failed" && <Trouble error={progress.message} />}
      {look.isPending && !p && <Loading />}
      {p && (
        <div aria-busy={look.isPending} className="aria-busy:opacity-60">
          <Summary preview={p} />
          {isFile && <Reading about={p.about} settings={settings} onChange={readAs} />}
          <h2 className="mt-4 mb-1">Columns, and what they become</h2>
          <Columns
            preview={p}
            pick={(native, attribute) => look.mutate({ onShape: true, picks: { [native]: attribute } })}
            words={(native, trueWords) => look.mutate({ onShape: true, trueWords: { [native]: trueWords } })}
            id={(native) => look.mutate({ onShape: true, id: native })}
          />
          <h2 className="mt-4 mb-1">First records, as they would be</h2>
          <Rows preview={p} />
          {p.problems.length > 0 && <Problems preview={p} />}
          <h2 className="mt-4 mb-1">Shape</h2>
          <textarea
            aria-label="shape"
            value={shape}
            onChange={(e) => write(e.target.value)}
            rows={Math.min(24, shape.split("\n").length + 1)}
            spellCheck={false}
            className="w-full rounded-sm border border-hair bg-leaf p-2 font-mono text-[12px]"
          />
        </div>
      )}
    </>
  );
}

function Summary({ preview: p }: { preview: Preview }) {
  const a = p.about;
  const words =
    a &&
    [a.format, a.encoding, a.sheet, a.delimiter && `delimiter “${a.delimiter === "\t" ? "tab" : a.delimiter}”`, a.compressed && "gzip"]
      .filter(Boolean)
      .join(", ");
  const rows: [string, React.ReactNode][] = [
    [
      "holds",
      <span key="holds">
        {thousands(p.records)} records
        {p.rejected > 0 && <span className="text-madder">, {thousands(p.rejected)} that can't be read</span>}
        {!p.everything && " (a sample)"}
      </span>,
    ],
    [
      "id",
      <span key="id" className={p.id.unique && p.id.stable ? "" : "text-ochre"}>
        <Id>{p.id.native || "none"}</Id>: {p.id.said}
      </span>,
    ],
  ];
  if (words) rows.unshift(["read as", words]);
  if (a?.above?.length) rows.push(["passed over", `${a.above.join(" / ")} (above the header)`]);
  for (const l of p.left) rows.push(["left out", `${thousands(l.count)}: ${l.reason}`]);
  rows.push(["next", p.next]);
  return <Facts rows={rows} />;
}

/** How a file is to be read, where it was found out wrongly. */
function Reading({
  about,
  settings,
  onChange,
}: {
  about?: Schemas["FileAbout"];
  settings: Record<string, string>;
  onChange: (s: Record<string, string>) => void;
}) {
  if (about?.format !== "csv") return null;
  const choices: [string, [string, string][]][] = [
    ["delimiter", [",", ";", "|", "tab"].map((d) => [d, d])],
    ["encoding", ["utf-8", "utf-16", "latin-1", "windows-1252"].map((e) => [e, e])],
  ];
  return (
    <p className="mt-2 flex items-center gap-4 text-soft">
      Not right?
      {choices.map(([name, options]) => (
        <span key={name} className="flex items-center gap-1.5">
          {name}
          <Select label={name} value={settings[name] ?? ""} onChange={(v) => onChange(v ? { ...settings, [name]: v } : {})}>
            <option value="">found out</option>
            {options.map(([v, words]) => (
              <option key={v} value={v}>
                {words}
              </option>
            ))}
          </Select>
        </span>
      ))}
    </p>
  );
}
