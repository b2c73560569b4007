import type { Schemas } from "../data/client";
import { Empty, Select, thousands } from "./parts";

type Preview = Schemas["Preview"];

const notUsed = "";

const cell = "px-2 py-1 align-top";

export function Columns({
  preview: p,
  pick,
  id,
  words,
}: {
  preview: Preview;
  pick: (native: string, attribute: string) => void;
  words: (native: string, trueWords: string[]) => void;
  id: (native: string) => void;
}) {
  return (
    <section className="overflow-x-auto border-hair border-y" aria-label="columns" tabIndex={0}>
      <table className="w-full text-[13px]">
        <thead>
          <tr className="border-hair border-b">
            {["column", "id", "becomes", "sure", "values", "filled", "distinct", "examples"].map((h) => (
              <th key={h} className={`${cell} ${["sure", "filled", "distinct"].includes(h) ? "text-right" : ""}`}>
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {p.columns.map((c) => {
            const known = c.attribute && !p.attributes.includes(c.attribute) ? [c.attribute, ...p.attributes] : p.attributes;
            return (
              <tr key={c.native} className="border-hair border-b last:border-0">
                <td className={`${cell} font-mono text-[12px]`}>{c.native}</td>
                <td className={cell}>
                  <input
                    type="radio"
                    name="id"
                    aria-label={`${c.native} is the id`}
                    checked={p.id.native === c.native}
                    disabled={c.kind === "secret"}
                    onChange={() => id(c.native)}
                  />
                </td>
                <td className={cell}>
                  {c.kind === "secret" ? (
                    <span className="text-soft">never read</span>
                  ) : (
                    <Select
                      label={`${c.native} becomes`}
                      value={c.attribute ?? notUsed}
                      onChange={(v) => pick(c.native, v)}
                      className="w-40"
                    >
                      <option value={notUsed}>not used</option>
                      {known.map((a) => (
                        <option key={a} value={a}>
                          {a}
                        </option>
                      ))}
                    </Select>
                  )}
                </td>
                <td className={`${cell} text-right`} title={`by ${c.because}`}>
                  {c.also && <span className="mr-2 text-soft">also {c.also.join(", ")}</span>}
                  {c.attribute
                    ? c.because === "the shape"
                      ? "shape"
                      : c.because === "its own name"
                        ? "own"
                        : `${Math.round(c.confidence * 100)} %`
                    : ""}
                </td>
                <td className={`${cell} text-soft`}>{c.kind}</td>
                <td className={`${cell} text-right`}>{thousands(c.filled)}</td>
                <td className={`${cell} text-right`}>{thousands(c.distinct)}</td>
                <td className={cell}>
                  {c.note && <span className="block text-ochre">◐ {c.note}</span>}
                  <span className="text-soft">{c.examples.join(", ")}</span>
                  {c.flag && c.distinct <= c.examples.length && (
                    <span className="ml-3">
                      {c.examples.map((v) => (
                        <label key={v} className="mr-3 whitespace-nowrap">
                          <input
                            type="checkbox"
                            checked={c.trueWords?.includes(v) ?? false}
                            onChange={(e) =>
                              words(
                                c.native,
                                c.examples.filter((w) => (w === v ? e.target.checked : c.trueWords?.includes(w))),
                              )
                            }
                          />{" "}
                          {v} means true
                        </label>
                      ))}
                    </span>
                  )}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}

export function Rows({ preview: p }: { preview: Preview }) {
  if (p.rows.length === 0) return <Empty>None can be read with this shape yet.</Empty>;
  const names = p.columns.map((c) => c.attribute ?? "").filter((a) => a && a !== "id" && p.rows.some((r) => r.values[a]));
  const lines = p.rows.some((r) => r.line);
  return (
    <section className="max-h-80 overflow-auto border-hair border-y" aria-label="first records" tabIndex={0}>
      <table className="text-[13px]">
        <thead>
          <tr className="border-hair border-b">
            {lines && <th className={`${cell} text-right`}>line</th>}
            <th className={cell}>id</th>
            {names.map((n) => (
              <th key={n} className={cell}>
                {n}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {p.rows.map((r) => (
            <tr key={`${r.line} ${r.id}`} className="border-hair border-b last:border-0">
              {lines && <td className={`${cell} text-right text-soft`}>{r.line}</td>}
              <td className={`${cell} whitespace-nowrap font-mono text-[12px]`}>{r.id}</td>
              {names.map((n) => (
                <td key={n} className={`${cell} whitespace-nowrap`}>
                  {r.values[n]?.join("; ")}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

export function Problems({ preview: p }: { preview: Preview }) {
  return (
    <>
      <h2 className="mt-4 mb-1">
        {thousands(p.rejected)} that can't be read{p.problems.length < p.rejected && `, the first ${p.problems.length}`}
      </h2>
      <section className="max-h-72 overflow-auto border-hair border-y" aria-label="problems" tabIndex={0}>
        <table className="w-full text-[13px]">
          <thead>
            <tr className="border-hair border-b">
              <th className={`${cell} text-right`}>line</th>
              <th className={cell}>column</th>
              <th className={cell}>id</th>
              <th className={cell}>why</th>
            </tr>
          </thead>
          <tbody>
            {p.problems.map((x) => (
              <tr key={`${x.line} ${x.column} ${x.id} ${x.reason}`} className="border-hair border-b last:border-0">
                <td className={`${cell} text-right text-soft`}>{x.line || "–"}</td>
                <td className={`${cell} font-mono text-[12px]`}>{x.column ?? "–"}</td>
                <td className={`${cell} font-mono text-[12px]`}>{x.id ?? "–"}</td>
                <td className={cell}>{x.reason}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
    </>
  );
}
