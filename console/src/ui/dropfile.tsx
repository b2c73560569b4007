import { type ReactNode, useId, useState } from "react";

/** Takes a file: chosen by hand, or dropped. */
export function DropFile(props: { label: string; accept: string; busy?: boolean; take: (file: File) => void; children?: ReactNode }) {
  const id = useId();
  const [over, setOver] = useState(false);
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: dropping is never the only way; the input beside it takes the same
    <div
      data-state={over ? "over" : "waiting"}
      onDragOver={(e) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => {
        e.preventDefault();
        setOver(false);
        const file = e.dataTransfer.files[0];
        if (file && !props.busy) props.take(file);
      }}
      className="rounded-sm border border-hair border-dashed p-3 data-[state=over]:bg-wash"
    >
      <label htmlFor={id} className="block font-medium">
        {props.label}
      </label>
      {props.children}
      <input
        id={id}
        type="file"
        accept={props.accept}
        disabled={props.busy}
        className="mt-2 block"
        onChange={(e) => {
          const file = e.target.files?.[0];
          if (file) props.take(file);
          e.target.value = ""; // the same one may come again, edited
        }}
      />
    </div>
  );
}
