import { useRef, useState } from "react";
import { Button } from "./parts";

/** A place to drop a file, or to pick one. */
export function DropFile(props: {
  label: string;
  hint: string;
  name?: string;
  accept?: string;
  busy: boolean;
  take: (file: File) => void;
}) {
  const input = useRef<HTMLInputElement>(null);
  const [over, setOver] = useState(false);
  return (
    <section
      aria-label={props.label}
      data-state={over ? "over" : "idle"}
      className="my-2 flex items-center gap-3 rounded-sm border border-hair border-dashed px-3 py-3 data-[state=over]:bg-larkspur-wash"
      onDragOver={(e) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => {
        e.preventDefault();
        setOver(false);
        if (e.dataTransfer.files[0] && !props.busy) props.take(e.dataTransfer.files[0]);
      }}
    >
      <input
        ref={input}
        type="file"
        aria-label={props.label}
        accept={props.accept}
        className="sr-only"
        tabIndex={-1}
        onChange={(e) => {
          if (e.target.files?.[0]) props.take(e.target.files[0]);
          e.target.value = ""; // the same one may come again, edited
        }}
      />
      <Button onClick={() => input.current?.click()} disabled={props.busy}>
        Choose a file…
      </Button>
      <span className="text-soft">
        {props.busy ? "Sending…" : props.name ? <span className="text-ink">{props.name}</span> : props.hint}
      </span>
    </section>
  );
}
