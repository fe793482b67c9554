// On the page of whoever carries the probe about: name where you stand, press once, wait, go on.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { get, post } from "../api/client";
import { CallHere } from "../site/check/survey-screen";
import { Button, Field, INPUT, Note } from "../ui/controls";
import { withUnit } from "../ui/format";
import { underWay } from "../ui/live-page";

const LOOK_MS = 1000;
const IDLE_MS = 5000;

export function SurveyHere({ code }: { code: string }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [problem, setProblem] = useState<string | null>(null);
  const path = `/api/join/${code}/survey`;
  const found = useQuery({
    queryKey: ["join-survey", code],
    queryFn: () => get("JoinSurvey", path),
    refetchInterval: ({ state }) => (state.data?.places.some((one) => !one.place) ? LOOK_MS : IDLE_MS),
    retry: false,
  });
  if (!found.data) return null;
  const { data } = found;
  const current = data.places.find(underWay);
  const measure = async (event: FormEvent) => {
    event.preventDefault();
    try {
      queries.setQueryData(["join-survey", code], await post("JoinSurvey", path, { name: name.trim() }));
      setName("");
      setProblem(null);
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  return (
    <section className="mt-7">
      <h2 className="rule mb-2 pt-2 text-lg">Walk about with this computer</h2>
      <p className="leading-snug">
        Only if you were asked to: carry it to a place, say where you are, press once and stay there for half
        a minute.
      </p>
      <form onSubmit={measure} className="mt-3 grid gap-3">
        <Field label="Where are you?">
          <input
            className={INPUT}
            value={name}
            maxLength={80}
            placeholder="Ticket desk"
            onChange={(event) => setName(event.target.value)}
          />
        </Field>
        <div>
          <Button act type="submit" disabled={!data.open || name.trim() === ""}>
            {current ? "Measuring …" : "Measure here"}
          </Button>
        </div>
        {problem && <Note>{problem}</Note>}
        <p role="status" className="empty:hidden">
          {current
            ? `${current.name}: ${current.words}${current.left_s ? ` About ${withUnit(Math.ceil(current.left_s), "s")} to go.` : ""}`
            : data.says}
        </p>
      </form>
      {data.places.length > 0 && (
        <ul className="mt-3">
          {data.places.map((one) => (
            <li key={one.id} className="hair border-t py-2">
              <span className="flex flex-wrap items-baseline justify-between gap-x-4">
                <span className="font-semibold">{one.name}</span>
                <CallHere place={one} />
              </span>
              <span className="block text-sm leading-snug text-soft">
                {one.place ? one.place.says.join(" ") || "Nothing stands out." : one.words}
              </span>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
