import { useEffect, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, asItIs, ask, type Schemas } from "../data/client";
import { useAct, useMay, useSystem, useSystemKinds } from "../data/queries";
import { Button, Empty, Head, Loading, Select, Trouble } from "../ui/parts";

/** Makes a system, or changes the settings of one: the fields are those that its kind declares. */
export function SystemSettingsPage() {
  const { system } = useParams();
  const kinds = useSystemKinds();
  const old = useSystem(system ?? "");
  const may = useMay();
  const go = useNavigate();
  const [name, setName] = useState("");
  const [kind, setKind] = useState<Schemas["SystemKind"]>("file");
  const [values, setValues] = useState<Record<string, string>>({});
  const [shape, setShape] = useState("");
  const [secret, setSecret] = useState("");
  const was = system ? old.data : undefined;
  // what is changed is what was there when the page was opened, whatever comes meanwhile
  const [version, setVersion] = useState<number>();
  useEffect(() => {
    if (!was || version !== undefined) return;
    setVersion(was.version);
    setKind(was.kind);
    setValues(was.settings);
    setShape(was.shape);
  }, [was, version]);
  const keep = useAct(
    () =>
      ask(
        api.PUT("/systems/{system}", {
          params: { path: { system: system ?? name.trim() }, header: version === undefined ? {} : { "If-Match": `"${version}"` } },
          body: {
            kind,
            settings: Object.fromEntries(Object.entries(values).filter(([, v]) => v !== "")),
            shape,
            secret: secret === "" ? undefined : secret,
            ...(was ? asItIs(was) : {}),
          },
        }),
      ),
    (s: Schemas["System"]) => go(`/systems/${s.name}`),
  );
  if (kinds.isPending || (system && old.isPending)) return <Loading />;
  if (!kinds.data) return <Trouble error={kinds.error} />;
  if (system && !was) return <Trouble error={old.error} />;
  if (!may("administer")) return <Empty>Systems are made and changed by somebody with the right administer.</Empty>;
  const settings = kinds.data.items.find((k) => k.kind === kind)?.settings ?? [];
  const field = "mt-1 block h-7 w-full rounded-sm border border-hair bg-leaf px-2";
  return (
    <>
      <Head
        title={system ? `Settings of ${system}` : "New system"}
        about="A new system is read-only. The secret is encrypted, and never shown again."
      />
      <form
        className="max-w-[760px]"
        onSubmit={(e) => {
          e.preventDefault();
          keep.mutate(undefined);
        }}
      >
        {!system && (
          <div className="mb-4 grid grid-cols-[1fr_160px] gap-4">
            <label>
              Name
              <input className={field} value={name} onChange={(e) => setName(e.target.value)} placeholder="dome-booking" required />
            </label>
            <div>
              Kind
              <Select label="kind" value={kind} onChange={(k) => setKind(k as Schemas["SystemKind"])} className="mt-1 block w-full">
                {kinds.data.items.map((k) => (
                  <option key={k.kind} value={k.kind}>
                    {{ file: "a file", ldap: "a directory (LDAP)", scim: "an application (SCIM)" }[k.kind]}
                  </option>
                ))}
              </Select>
            </div>
          </div>
        )}
        {kind !== "file" && (
          <label className="mb-4 block">
            Secret{system ? " (the one that is kept stays when this is left blank)" : ""}
            <input
              className={field}
              type="password"
              autoComplete="new-password"
              value={secret}
              onChange={(e) => setSecret(e.target.value)}
            />
          </label>
        )}
        <dl className="mb-4">
          {settings.map((s) => (
            <div key={s.name} className="grid grid-cols-[180px_1fr] items-baseline gap-4 border-hair border-b py-1.5">
              <dt>
                <label htmlFor={`set-${s.name}`}>{s.name}</label>
              </dt>
              <dd>
                {s.words ? (
                  <select
                    id={`set-${s.name}`}
                    className="h-7 rounded-sm border border-hair bg-leaf px-1"
                    value={values[s.name] ?? ""}
                    onChange={(e) => setValues({ ...values, [s.name]: e.target.value })}
                  >
                    <option value="">{s.words[0]} (default)</option>
                    {s.words.map((w) => (
                      <option key={w}>{w}</option>
                    ))}
                  </select>
                ) : (
                  <input
                    id={`set-${s.name}`}
                    className="h-7 w-full rounded-sm border border-hair bg-leaf px-2"
                    type={s.number ? "number" : "text"}
                    min={s.number ? (s.lowest ?? 0) : undefined}
                    max={s.highest}
                    value={values[s.name] ?? ""}
                    placeholder={s.otherwise ?? `such as ${s.example}`}
                    onChange={(e) => setValues({ ...values, [s.name]: e.target.value })}
                  />
                )}
                <span className="block text-[12px] text-soft">{s.what.replaceAll("`", "")}</span>
              </dd>
            </div>
          ))}
        </dl>
        <label className="mb-4 block">
          Shape: which column feeds which attribute; a preview proposes one
          <textarea
            className="mt-1 block h-32 w-full rounded-sm border border-hair bg-leaf p-2 font-mono text-[12px]"
            value={shape}
            onChange={(e) => setShape(e.target.value)}
            spellCheck={false}
          />
        </label>
        {keep.error ? <Trouble error={keep.error} /> : null}
        <div className="mt-3 flex gap-2">
          <Button type="submit" tone="main" disabled={keep.isPending}>
            {system ? "Keep the settings" : "Make the system"}
          </Button>
          <Button onClick={() => go(system ? `/systems/${system}` : "/systems")}>Leave it</Button>
        </div>
      </form>
    </>
  );
}
