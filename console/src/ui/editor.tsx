import { autocompletion, type Completion, type CompletionContext, completionKeymap } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { HighlightStyle, indentUnit, syntaxHighlighting } from "@codemirror/language";
import { type Diagnostic, lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { drawSelection, EditorView, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import type { Schemas } from "../data/client";

export type Vocabulary = Schemas["Vocabulary"];
export type Mistake = { line: number; column: number; message: string; harm: boolean };

const looks = EditorView.theme({
  "&": { fontSize: "12px", backgroundColor: "transparent", color: "var(--ink)" },
  ".cm-scroller": { fontFamily: "var(--font-mono)", lineHeight: "20px" },
  ".cm-gutters": { backgroundColor: "transparent", color: "var(--soft)", border: "none" },
  ".cm-content": { caretColor: "var(--ink)", padding: "8px 0" },
  "&.cm-focused .cm-cursor": { borderLeftColor: "var(--ink)" },
  "&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground": {
    backgroundColor: "var(--larkspur-wash)",
  },
  ".cm-tooltip": { backgroundColor: "var(--leaf)", color: "var(--ink)", border: "1px solid var(--hair)", borderRadius: "2px" },
  ".cm-tooltip.cm-tooltip-autocomplete > ul > li[aria-selected]": { backgroundColor: "var(--larkspur-wash)", color: "var(--ink)" },
  ".cm-completionDetail": { color: "var(--soft)", fontStyle: "normal" },
  ".cm-completionInfo": { backgroundColor: "var(--leaf)", maxWidth: "320px" },
  ".cm-completionMatchedText": { textDecoration: "none", fontWeight: "600" },
});

const colours = syntaxHighlighting(
  HighlightStyle.define([
    { tag: [tags.definition(tags.propertyName), tags.propertyName], color: "var(--larkspur)" },
    { tag: tags.comment, color: "var(--soft)" },
    { tag: tags.string, color: "var(--lichen)" },
    { tag: tags.content, color: "var(--ink)" },
    { tag: [tags.number, tags.bool, tags.null, tags.keyword], color: "var(--ochre)" },
  ]),
);

/** The keys that stand above a line, by their indentation: those of a block, from the top. */
function above(context: CompletionContext): string[] {
  const line = context.state.doc.lineAt(context.pos);
  let indent = line.text.search(/[^\s-]|$/);
  const path: string[] = [];
  for (let n = line.number - 1; n > 0 && indent > 0; n--) {
    const text = context.state.doc.line(n).text;
    const key = /^([\s-]*)([\w-]+):/.exec(text);
    if (!key || text.trimStart().startsWith("#")) continue;
    const at = (key[1] ?? "").length;
    const item = (key[1] ?? "").includes("-");
    if (at >= indent) {
      if (item && at === indent && (key[1] ?? "").indexOf("-") < indent) indent = (key[1] ?? "").indexOf("-");
      continue;
    }
    path.unshift(key[2] ?? "");
    indent = item ? (key[1] ?? "").indexOf("-") : at;
  }
  return path;
}

/** Keys that may stand below others; * is any name, and an item of a list stands where its list does. */
function keysBelow(v: Vocabulary, path: string[]): Completion[] {
  const fits = (declared: string[]) =>
    declared.length === path.length + 1 &&
    path.every((p, i) => declared[i]?.replace("[]", "") === p || declared[i]?.replace("[]", "") === "*");
  return v.keys.flatMap((k) => {
    const parts = k.path.split(".");
    const name = parts.at(-1) ?? "";
    return fits(parts) && name !== "*" && !name.endsWith("]") ? [{ label: name, apply: `${name}: `, type: "property", info: k.what }] : [];
  });
}

/** What may stand where the caret is: attributes behind person. and account., keys at the beginning of a line, else functions. */
function suggest(v: Vocabulary) {
  return (context: CompletionContext) => {
    const attribute = context.matchBefore(/\b(person|account)\.\w*/);
    if (attribute) {
      const [side] = attribute.text.split(".");
      const options = (side === "person" ? v.person : v.account).map((label) => ({ label, type: "variable" }));
      return { from: attribute.from + (side?.length ?? 0) + 1, options, validFor: /^\w*$/ };
    }
    const line = context.state.doc.lineAt(context.pos);
    const before = line.text.slice(0, context.pos - line.from);
    const key = /^[\s-]*([\w-]*)$/.exec(before);
    if (key) return { from: context.pos - (key[1] ?? "").length, options: keysBelow(v, above(context)), validFor: /^[\w-]*$/ };
    const word = context.matchBefore(/[A-Za-z]\w*/);
    if (!word && !context.explicit) return null;
    const words = [
      { label: "person", apply: "person.", type: "keyword" },
      { label: "account", apply: "account.", type: "keyword" },
    ];
    return {
      from: word ? word.from : context.pos,
      options: [
        ...words,
        ...v.functions.map((f) => ({
          label: f.name,
          detail: `(${f.arguments})`,
          apply: `${f.name}(`,
          type: "function",
          info: `${f.what}: ${f.example}`,
        })),
      ],
      validFor: /^\w*$/,
    };
  };
}

/** An editor of charters: coloured, with what is wrong where it stands, and what may be written. */
export default function CharterEditor(props: {
  value: string;
  change: (text: string) => void;
  vocabulary?: Vocabulary;
  mistakes: Mistake[];
}) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const known = useRef(props.vocabulary);
  const change = useRef(props.change);
  const first = useRef(props.value);
  known.current = props.vocabulary;
  change.current = props.change;
  useEffect(() => {
    if (!host.current) return;
    const v = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: first.current,
        extensions: [
          lineNumbers(),
          lintGutter(),
          history(),
          drawSelection(),
          EditorView.lineWrapping,
          yaml(),
          colours,
          looks,
          indentUnit.of("  "),
          autocompletion({ override: [(c) => (known.current ? suggest(known.current)(c) : null)], icons: false }),
          keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap]),
          EditorView.contentAttributes.of({ "aria-label": "charter", spellcheck: "false" }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) change.current(u.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = v;
    return () => v.destroy();
  }, []);
  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== props.value) v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: props.value } });
  }, [props.value]);
  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const told: Diagnostic[] = props.mistakes.map((m) => {
      const line = v.state.doc.line(Math.min(Math.max(m.line, 1), v.state.doc.lines));
      const from = Math.min(line.from + Math.max(m.column - 1, 0), line.to);
      return { from, to: Math.max(from, line.to), severity: m.harm ? "error" : "info", message: m.message };
    });
    v.dispatch(setDiagnostics(v.state, told));
  }, [props.mistakes]);
  return <div ref={host} className="border-hair border-y" />;
}
