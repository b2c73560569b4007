import { useState } from "react";
import { useIntentionDays } from "../data/queries";
import { Button, thousands } from "./parts";

const names = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const months = "January February March April May June July August September October November December".split(" ");

/** Days are plain calendar days: they are counted in UTC, where every day is as long. */
const text = (day: Date) => day.toISOString().slice(0, 10);
const plus = (day: Date, days: number) => new Date(day.getTime() + days * 86_400_000);
const firstOf = (day: string, later = 0) => new Date(Date.UTC(Number(day.slice(0, 4)), Number(day.slice(5, 7)) - 1 + later, 1));

/** A month of what is to be done in a lane, day by day; a day is chosen to see whose it is. */
export function Month({ lane, chosen, choose }: { lane: string; chosen: string; choose: (day: string) => void }) {
  const [shown, show] = useState(text(firstOf(chosen || new Date().toISOString())));
  const first = firstOf(shown);
  const from = plus(first, -((first.getUTCDay() + 6) % 7)); // the Monday before
  const weeks = Math.ceil((firstOf(shown, 1).getTime() - from.getTime()) / (7 * 86_400_000));
  const days = Array.from({ length: 7 * weeks }, (_, i) => text(plus(from, i)));
  const data = useIntentionDays(lane, days[0], days[days.length - 1]).data;
  const turn = (later: number) => show(text(firstOf(shown, later)));
  return (
    <section aria-label="calendar" className="mb-3">
      <div className="mb-1 flex items-center gap-2">
        <Button aria-label="the month before" onClick={() => turn(-1)}>
          ‹
        </Button>
        <h2 className="w-32 text-center" aria-live="polite">
          {months[first.getUTCMonth()]} {first.getUTCFullYear()}
        </h2>
        <Button aria-label="the month after" onClick={() => turn(1)}>
          ›
        </Button>
        {data?.first && data.last && (
          <span className="text-soft">
            something is to be done from <Jump day={data.first} go={show} /> to <Jump day={data.last} go={show} />
          </span>
        )}
      </div>
      <table className="w-full table-fixed border-hair border-y text-[12px]">
        <thead>
          <tr>
            {names.map((n) => (
              <th key={n} scope="col" className="px-2 text-left font-normal text-soft">
                {n}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {Array.from({ length: weeks }, (_, w) => days.slice(7 * w, 7 * w + 7)).map((week) => (
            <tr key={week[0]} className="border-hair border-t">
              {week.map((day) => (
                <Day
                  key={day}
                  day={day}
                  other={day.slice(0, 7) !== shown.slice(0, 7)}
                  today={day === data?.today}
                  chosen={day === chosen}
                  due={data?.items.filter((i) => i.due === day) ?? []}
                  choose={choose}
                />
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Jump({ day, go }: { day: string; go: (day: string) => void }) {
  return (
    <button type="button" className="underline decoration-hair underline-offset-2" onClick={() => go(day)}>
      {day}
    </button>
  );
}

function Day(props: {
  day: string;
  other: boolean;
  today: boolean;
  chosen: boolean;
  due: { verb: string; count: number }[];
  choose: (day: string) => void;
}) {
  const { day, due, chosen } = props;
  const date = (
    <>
      <span className="sr-only">
        {day}
        {props.today && ", today"}:{" "}
      </span>
      <span aria-hidden className={`inline-block w-5 ${props.today ? "font-semibold" : "text-soft"}`}>
        {Number(day.slice(8))}
      </span>
    </>
  );
  const frame = `h-6 px-2 align-top ${props.other ? "text-soft" : ""} ${props.today ? "border-l-2 border-l-ink" : ""} ${chosen ? "bg-wash" : ""}`;
  if (due.length === 0) return <td className={frame}>{date}</td>;
  return (
    <td data-day={day} className={frame}>
      <button
        type="button"
        aria-pressed={chosen}
        className="w-full truncate text-left hover:bg-wash"
        onClick={() => props.choose(chosen ? "" : day)}
      >
        {date}
        {due.map((d, i) => (
          <span key={d.verb} className={d.verb === "delete" ? "text-madder" : ""}>
            {i > 0 && ", "}
            {thousands(d.count)} {d.verb}
          </span>
        ))}
      </button>
    </td>
  );
}
