/** The states' own marks: state is told by shape and word first, by colour last. */
export type State = "twinned" | "missing" | "orphan" | "duplicate" | "contested" | "exempt" | "harm";

const tones: Record<State, string> = {
  twinned: "text-ink",
  missing: "text-larkspur",
  orphan: "text-lichen",
  duplicate: "text-soft",
  contested: "text-ochre",
  exempt: "text-soft",
  harm: "text-madder",
};

export function Glyph({ state }: { state: string }) {
  const tone = tones[state as State] ?? "text-soft";
  return (
    <svg viewBox="0 0 16 16" className={`inline-block size-3.5 shrink-0 align-[-2px] ${tone}`} aria-hidden="true">
      {draw(state)}
    </svg>
  );
}

function draw(state: string) {
  const ring = { fill: "none", stroke: "currentColor", strokeWidth: 1.8 };
  switch (state) {
    case "twinned":
      return <path d="M8 6.2a4 4 0 1 0 0 3.6 4 4 0 1 0 0-3.6Z" fill="currentColor" />;
    case "missing":
    case "orphan":
      return <circle cx={state === "missing" ? 6 : 10} cy="8" r="4.5" {...ring} />;
    case "duplicate":
      return (
        <>
          <circle cx="6" cy="8" r="4" {...ring} />
          <circle cx="10" cy="8" r="4" {...ring} />
        </>
      );
    case "contested":
      return (
        <>
          <circle cx="8" cy="8" r="5" {...ring} />
          <path d="M8 3a5 5 0 0 0 0 10Z" fill="currentColor" />
        </>
      );
    case "harm":
      return (
        <>
          <circle cx="8" cy="8" r="5" {...ring} />
          <path d="M4.5 11.5l7-7" {...ring} />
        </>
      );
    default:
      return <circle cx="8" cy="8" r="5" {...ring} strokeDasharray="2 2.2" />;
  }
}

export function StateWord({ state }: { state: string }) {
  return (
    <span className="whitespace-nowrap" data-state={state}>
      <Glyph state={state} /> {state}
    </span>
  );
}
