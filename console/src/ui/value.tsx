import { disguisedDomains } from "../data/domains";

/** A value as it is stored. A domain of several scripts, which may look like another, is followed by its ASCII form. */
export function Value({ children }: { children: string }) {
  return (
    <>
      {children}
      <Disguise text={children} />
    </>
  );
}

function Disguise({ text }: { text: string }) {
  return disguisedDomains(text).map((d) => (
    <span
      key={d}
      className="ml-1 font-mono text-[12px] text-madder no-underline"
      title="The domain mixes letters of several scripts. This is its ASCII form."
    >
      {d}
    </span>
  ));
}

/** A value beside another: what both begin and end with is quiet, the rest is marked. */
export function Marked({ value, other }: { value: string; other: string }) {
  const a = [...value];
  const b = [...other];
  let from = 0;
  while (from < a.length && from < b.length && a[from].toLowerCase() === b[from].toLowerCase()) from++;
  let end = 0;
  while (end < a.length - from && end < b.length - from && a[a.length - 1 - end].toLowerCase() === b[b.length - 1 - end].toLowerCase())
    end++;
  const middle = a.slice(from, a.length - end).join("");
  return (
    <>
      {a.slice(0, from).join("")}
      {middle && <ins>{middle}</ins>}
      {a.slice(a.length - end).join("")}
      <Disguise text={value} />
    </>
  );
}
