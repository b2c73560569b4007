import { useVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useEffect, useMemo, useRef, useState } from "react";

/** A quiet column has a heading for those who hear it. */
export type Column<T> = { name: string; width: string; right?: boolean; quiet?: boolean; cell: (row: T) => ReactNode };

/**
 * A list that people work through: arrows or j/k move, Enter opens, the row in
 * hand is always visible, more rows come as the end nears. The row in hand is a record:
 * whatever comes or goes around it, it stays in hand, and once it has left the list no row is.
 */
export function List<T>(props: {
  rows: T[];
  columns: Column<T>[];
  rowKey: (row: T) => string;
  open?: (row: T) => void;
  more?: () => void;
  label: string;
  height?: string;
  /** Rows that are marked, by their keys; space marks the one in hand, or takes the mark away. */
  marked?: ReadonlySet<string>;
  mark?: (row: T) => void;
  /** The rows are those of an earlier filter: they are dimmed, and nothing can be done with them. */
  awaited?: boolean;
}) {
  const { rows, columns, open, more, rowKey } = props;
  const box = useRef<HTMLDivElement>(null);
  const [hand, setHand] = useState<string>();
  const [place, setPlace] = useState(-1); // where the row in hand was last, for when it has left the list
  const at = useMemo(() => (hand === undefined ? -1 : rows.findIndex((r) => rowKey(r) === hand)), [rows, rowKey, hand]);
  useEffect(() => {
    if (at >= 0) setPlace(at);
  }, [at]);
  const grid = columns.map((c) => c.width).join(" ");
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => box.current, estimateSize: () => 28, overscan: 12 });
  const items = virtual.getVirtualItems();
  const last = items.at(-1)?.index ?? 0;
  useEffect(() => {
    if (more && rows.length > 0 && last >= rows.length - 5) more();
  }, [last, rows.length, more]);
  const move = (to: number) => {
    const n = Math.max(0, Math.min(rows.length - 1, to));
    if (!rows[n]) return;
    setHand(rowKey(rows[n]));
    virtual.scrollToIndex(n);
  };
  const keys = (e: React.KeyboardEvent) => {
    if (ownAct(e.target) || props.awaited) return;
    const step: Record<string, number> = { ArrowDown: 1, j: 1, ArrowUp: -1, k: -1, PageDown: 15, PageUp: -15 };
    // from a row that has left the list, the next one is what took its place
    if (step[e.key]) move(at >= 0 ? at + step[e.key] : place + Math.min(step[e.key], 0));
    else if (e.key === "Home") move(0);
    else if (e.key === "End") move(rows.length - 1);
    else if (e.key === "Enter" && rows[at]) {
      if (!e.repeat) open?.(rows[at]);
    } else if (e.key === " " && props.mark) {
      if (rows[at] && !e.repeat) props.mark(rows[at]);
    } else return;
    e.preventDefault();
  };
  return (
    <div
      role="grid"
      aria-label={props.label}
      aria-rowcount={rows.length}
      aria-busy={props.awaited}
      className={`border-hair border-y text-[13px] ${props.awaited ? "pointer-events-none opacity-50" : ""}`}
    >
      <div role="row" className="grid gap-x-3 border-hair border-b px-2 py-1 text-soft" style={{ gridTemplateColumns: grid }}>
        {columns.map((c, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: columns never move, and two may have one name
          <span key={i} role="columnheader" className={c.right ? "text-right" : ""}>
            {c.quiet ? <span className="sr-only">{c.name}</span> : c.name}
          </span>
        ))}
      </div>
      <div
        ref={box}
        role="rowgroup"
        tabIndex={0}
        aria-label={`${props.label}, rows`}
        onKeyDown={keys}
        onFocus={(e) => e.target === e.currentTarget && hand === undefined && items[0] && setHand(rowKey(rows[items[0].index]))}
        className="overflow-auto"
        style={{ maxHeight: props.height ?? "calc(100vh - 250px)" }}
      >
        <div role="presentation" className="relative" style={{ height: virtual.getTotalSize() }}>
          {items.map((v) => {
            const row = rows[v.index];
            return (
              <div
                key={rowKey(row)}
                ref={virtual.measureElement}
                data-index={v.index}
                role="row"
                tabIndex={-1}
                aria-rowindex={v.index + 1}
                aria-selected={v.index === at}
                data-marked={props.marked?.has(rowKey(row)) || undefined}
                onClick={(e) => {
                  if (ownAct(e.target)) return;
                  setHand(rowKey(row));
                  open?.(row);
                }}
                className={`absolute top-0 right-0 left-0 grid min-h-7 items-baseline gap-x-3 border-hair border-b px-2 py-1 aria-selected:bg-wash hover:bg-wash data-marked:border-l-2 data-marked:border-l-ink ${open ? "cursor-pointer" : ""}`}
                style={{ gridTemplateColumns: grid, transform: `translateY(${v.start}px)` }}
              >
                {columns.map((c, i) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: as above
                  <span key={i} role="gridcell" className={`min-w-0 break-words ${c.right ? "text-right" : ""}`}>
                    {c.cell(row)}
                  </span>
                ))}
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}

/** Marks the row in a column of its own, for those who do not use the keyboard. */
export function Mark({ on, label, change }: { on: boolean; label: string; change: () => void }) {
  return <input type="checkbox" aria-label={label} checked={on} onChange={change} className="accent-ink align-middle" tabIndex={-1} />;
}

/** Which rows are marked. */
export function useMarks(): { marked: ReadonlySet<string>; flip: (key: string) => void; clear: () => void } {
  const [marked, set] = useState<ReadonlySet<string>>(new Set());
  return {
    marked,
    flip: (key) =>
      set((before) => {
        const after = new Set(before);
        if (!after.delete(key)) after.add(key);
        return after;
      }),
    clear: () => set(new Set()),
  };
}

export function Id({ children }: { children: ReactNode }) {
  return <span className="font-mono text-[12px] text-soft">{children}</span>;
}

/** What is pressed within a row, or in a dialog that it opened, is not the row's to open. */
function ownAct(target: EventTarget) {
  return target instanceof Element && target.closest("button, a, input, [role=dialog]") !== null;
}
