import { Tabs as RadixTabs } from "radix-ui";
import { type ButtonHTMLAttributes, type ReactNode, useEffect, useLayoutEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { Refusal } from "../data/client";
import { many, thousands } from "../data/words";

export { many, thousands };

/**
 * A button. The second click of a double click, and Enter held down, do nothing: by then
 * another button may stand in this place. A button that only moves may `repeat`.
 */
export function Button({
  tone = "plain",
  className = "",
  repeat = false,
  onClick,
  onKeyDown,
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { tone?: "plain" | "main" | "harm"; repeat?: boolean }) {
  const tones = {
    plain: "border-hair bg-leaf hover:bg-wash",
    main: "border-ink bg-ink text-paper hover:opacity-90",
    harm: "border-madder text-madder bg-leaf hover:bg-madder-wash",
  };
  return (
    <button
      type="button"
      className={`inline-flex h-7 items-center gap-1.5 whitespace-nowrap rounded-sm border px-2.5 disabled:cursor-not-allowed disabled:opacity-50 ${tones[tone]} ${className}`}
      onClick={(e) => {
        if (e.detail > 1 && !repeat) e.preventDefault();
        else onClick?.(e);
      }}
      onKeyDown={(e) => {
        if (e.repeat && e.key === "Enter" && !repeat) e.preventDefault();
        else onKeyDown?.(e);
      }}
      {...rest}
    />
  );
}

/** A time told relatively, with the exact one at hand. */
export function When({ at }: { at?: string }) {
  const [, tick] = useState(0);
  useEffect(() => {
    const t = setInterval(() => tick((n) => n + 1), 30_000);
    return () => clearInterval(t);
  }, []);
  if (!at) return <span className="text-soft">never</span>;
  const seconds = (Date.now() - new Date(at).getTime()) / 1000;
  const words =
    seconds < -60
      ? new Date(at).toLocaleDateString("en-CA")
      : seconds < 60
        ? "just now"
        : seconds < 3600
          ? `${Math.floor(seconds / 60)} min ago`
          : seconds < 86_400
            ? `${Math.floor(seconds / 3600)} h ago`
            : new Date(at).toLocaleDateString("en-CA");
  return (
    <time dateTime={at} title={new Date(at).toLocaleString("en-CA")}>
      {words}
    </time>
  );
}

export function Trouble({ error }: { error: unknown }) {
  const p = error instanceof Refusal ? error.problem : { title: String(error), detail: undefined, next: undefined };
  return (
    <div role="alert" className="my-2 border-madder border-l-2 bg-madder-wash px-3 py-2">
      <p className="font-medium text-madder">{p.title}</p>
      {p.detail && <p className="whitespace-pre-wrap">{p.detail}</p>}
      {p.next && <p className="text-soft">{p.next}</p>}
    </div>
  );
}

export function Empty({ children }: { children: ReactNode }) {
  return <div className="border-hair border-y py-8 text-center text-soft">{children}</div>;
}

export function Loading() {
  return (
    <p className="py-6 text-center text-soft" aria-live="polite">
      Reading…
    </p>
  );
}

/** The head of a page: where we are, and what can be done here. */
/** What people call something, with its name beside it. */
export function Titled({ name, title }: { name: string; title?: string }) {
  return (
    <>
      <span className="font-medium">{title || name}</span>
      {title && <span className="block whitespace-nowrap font-mono text-soft">{name}</span>}
    </>
  );
}

export function Head({
  trail,
  title,
  about,
  children,
}: {
  trail?: [string, string][];
  title: ReactNode;
  about?: ReactNode;
  children?: ReactNode;
}) {
  return (
    <div className="mb-3 flex items-end justify-between gap-4">
      <div className="min-w-0">
        {trail && (
          <nav aria-label="trail" className="text-soft">
            {trail.map(([to, name]) => (
              <span key={to}>
                <Link to={to} className="underline decoration-hair underline-offset-2 hover:decoration-ink">
                  {name}
                </Link>
                {" › "}
              </span>
            ))}
          </nav>
        )}
        <h1>{title}</h1>
        {about && <p className="text-soft">{about}</p>}
      </div>
      <div className="flex shrink-0 items-center gap-2">{children}</div>
    </div>
  );
}

/** A search box. Each letter is reported at once, and a value that changes elsewhere is shown at once. */
export function Search({ value, onChange, label }: { value: string; onChange: (v: string) => void; label: string }) {
  const [text, setText] = useState(value);
  const reported = useRef(value);
  const input = useRef<HTMLInputElement>(null);
  useLayoutEffect(() => {
    if (value === reported.current) return; // what was typed has come back
    reported.current = value;
    setText(value);
  }, [value]);
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (e.key === "/" && !(e.target instanceof HTMLInputElement || e.target instanceof HTMLTextAreaElement)) {
        e.preventDefault();
        input.current?.focus();
      }
    };
    addEventListener("keydown", key);
    return () => removeEventListener("keydown", key);
  }, []);
  return (
    <input
      ref={input}
      type="search"
      aria-label={label}
      placeholder={`${label}  /`}
      value={text}
      onChange={(e) => {
        setText(e.target.value);
        reported.current = e.target.value;
        onChange(e.target.value);
      }}
      className="h-7 w-56 rounded-sm border border-hair bg-leaf px-2 placeholder:text-soft"
    />
  );
}

/** One of several pages below a row of names. */
export function Tabs<T extends string>(props: {
  value: T;
  onChange: (v: T) => void;
  items: [T, ReactNode][];
  label: string;
  children: ReactNode;
}) {
  return (
    <RadixTabs.Root value={props.value} onValueChange={(v) => props.onChange(v as T)}>
      <RadixTabs.List aria-label={props.label} className="mb-2 flex gap-4 border-hair border-b">
        {props.items.map(([name, words]) => (
          <RadixTabs.Trigger
            key={name}
            value={name}
            className="-mb-px border-transparent border-b-2 py-1 text-soft data-[state=active]:border-ink data-[state=active]:text-ink"
          >
            {words}
          </RadixTabs.Trigger>
        ))}
      </RadixTabs.List>
      {props.items.map(([name]) => (
        <RadixTabs.Content key={name} value={name}>
          {name === props.value && props.children}
        </RadixTabs.Content>
      ))}
    </RadixTabs.Root>
  );
}

export function Select({
  value,
  onChange,
  label,
  children,
  className = "",
}: {
  value: string;
  onChange: (v: string) => void;
  label: string;
  children: ReactNode;
  className?: string;
}) {
  return (
    <select
      aria-label={label}
      value={value}
      onChange={(e) => onChange(e.target.value)}
      className={`h-7 rounded-sm border border-hair bg-leaf px-1 ${className}`}
    >
      {children}
    </select>
  );
}

/** Names and what belongs to them, one a line. */
export function Facts({ rows }: { rows: [string, ReactNode][] }) {
  return (
    <dl className="grid grid-cols-[110px_1fr] gap-x-3">
      {rows.map(([name, what]) => (
        <div key={name} className="contents">
          <dt className="text-soft">{name}</dt>
          <dd className="min-w-0 break-words">{what}</dd>
        </div>
      ))}
    </dl>
  );
}

export function Progress({ done, total, label, since }: { done: number; total: number; label: string; since?: string }) {
  const seconds = since ? (Date.now() - new Date(since).getTime()) / 1000 : 0;
  return (
    <div className="flex items-center gap-3" aria-live="polite">
      <progress className="h-2 w-56 accent-larkspur" max={Math.max(total, 1)} value={done} aria-label={label} />
      <span>
        {label}: {thousands(done)}
        {total > 0 && ` of ${thousands(total)}`}
        {seconds > 1 && `, ${thousands(Math.round(done / seconds))} a second`}
      </span>
    </div>
  );
}

/** One of a few words. */
export function Pick({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: string;
  options: [string, string][];
  onChange: (v: string) => void;
}) {
  return (
    <label className="text-soft">
      {label}{" "}
      <select value={value} onChange={(e) => onChange(e.target.value)} className="h-7 rounded-sm border border-hair bg-leaf px-1 text-ink">
        {options.map(([v, name]) => (
          <option key={v} value={v}>
            {name}
          </option>
        ))}
      </select>
    </label>
  );
}
