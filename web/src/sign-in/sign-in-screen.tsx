import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useState } from "react";
import { get, keepCsrf, post } from "../api/client";
import { Button, Field, INPUT, Note } from "../ui/controls";
import { TextField } from "../ui/fields";
import { Popup } from "../ui/popup";

export function SignInScreen() {
  const queries = useQueryClient();
  const first = useQuery({
    queryKey: ["first-account"],
    queryFn: () => get("FirstAccount", "/api/first-account"),
  });
  const [error, setError] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  useEffect(() => {
    document.title = "Sign in · Tarnfell";
  }, []);
  const wanted = first.data?.wanted ?? false;
  const send = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = Object.fromEntries(new FormData(event.currentTarget));
    setBusy(true);
    try {
      const session = await post("Session", wanted ? "/api/first-account" : "/api/session", form);
      keepCsrf(session.csrf);
      queries.setQueryData(["session"], session);
    } catch (problem) {
      setError((problem as Error).message);
      setBusy(false);
    }
  };
  return (
    <main className="mx-auto grid min-h-screen max-w-[1080px] items-center gap-x-20 gap-y-8 px-5 py-8 sm:px-10 lg:grid-cols-[1fr_360px]">
      <div>
        <Soundings />
        <h1 className="mt-8 text-4xl tracking-tight">Tarnfell</h1>
        <p className="mt-3 max-w-md text-lg leading-snug">
          Can this site carry its calls, all day, every day? If not, what exactly must change?
        </p>
      </div>
      <form onSubmit={send} className="space-y-4 border-ink lg:border-l lg:pl-10">
        <h2 className="text-lg">{wanted ? "Create the first account" : "Sign in"}</h2>
        {wanted && (
          <>
            <p className="text-sm leading-snug">
              Nobody can sign in to this server yet. It printed a one-time code when it started.
            </p>
            <Field label="One-time code">
              <input name="code" required autoComplete="off" spellCheck={false} className={INPUT} />
            </Field>
            <Field label="Your name">
              <input name="name" autoComplete="name" className={INPUT} />
            </Field>
          </>
        )}
        <Field label="Email address">
          <input name="email" type="email" required autoComplete="username" className={INPUT} />
        </Field>
        <Field label="Password" hint={wanted ? "at least 10 characters" : undefined}>
          <input
            name="password"
            type="password"
            required
            autoComplete={wanted ? "new-password" : "current-password"}
            className={INPUT}
          />
        </Field>
        {error && <Note>{error}</Note>}
        <Button act type="submit" disabled={busy}>
          {wanted ? "Create account" : "Sign in"}
        </Button>
        {!wanted && <Forgotten />}
      </form>
    </main>
  );
}

/** A link to a new password, by mail. */
function Forgotten() {
  const [email, setEmail] = useState("");
  const [said, setSaid] = useState("");
  const ask = async () => setSaid((await post("ResetAsked", "/api/password-reset", { email })).says);
  if (said)
    return (
      <p role="status" className="text-sm leading-snug">
        {said}
      </p>
    );
  return (
    <p>
      <Popup
        label="Forgot your password?"
        trigger={
          <button type="button" className="text-sm underline underline-offset-3">
            Forgot your password?
          </button>
        }
        confirm="Send link"
        disabled={!email.trim()}
        onConfirm={ask}
      >
        <TextField label="Email address of your account" value={email} onChange={setEmail} />
      </Popup>
    </p>
  );
}

/** Depth contours of a small lake, with the line of soundings across it. */
function Soundings() {
  const rings = [
    "M40 96C40 40 120 14 214 26C322 40 402 66 396 118C390 172 282 186 196 178C104 170 40 150 40 96Z",
    "M84 98C86 60 146 42 214 48C296 56 352 80 348 114C344 150 262 158 198 154C132 150 82 138 84 98Z",
    "M128 100C130 76 172 66 218 70C268 76 300 90 298 112C294 134 246 138 204 134C162 132 126 124 128 100Z",
    "M172 102C174 90 196 86 220 88C246 92 258 98 256 110C252 120 228 122 208 120C188 118 170 114 172 102Z",
  ];
  return (
    <svg viewBox="0 0 440 200" className="w-full max-w-[440px]" aria-hidden="true">
      {rings.map((ring, i) => (
        <path key={ring} d={ring} fill={`var(--depth-${i + 1})`} stroke="var(--ink)" strokeWidth="0.8" />
      ))}
      <path d="M20 118L420 92" stroke="var(--ink)" strokeWidth="0.8" strokeDasharray="2 5" />
    </svg>
  );
}
