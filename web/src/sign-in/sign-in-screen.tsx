import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { keepCsrf, post } from "../api/client";
import { Button, Field, INPUT, Note } from "../shared/controls";

export function SignInScreen() {
  const queries = useQueryClient();
  const [error, setError] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  const signIn = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    setBusy(true);
    try {
      const session = await post("Session", "/api/session", {
        email: String(form.get("email")),
        password: String(form.get("password")),
      });
      keepCsrf(session.csrf);
      queries.setQueryData(["session"], session);
    } catch (problem) {
      setError((problem as Error).message);
      setBusy(false);
    }
  };
  return (
    <main className="mx-auto grid min-h-screen max-w-[1080px] lg:grid-cols-[1fr_360px] items-center gap-20 px-10">
      <div>
        <Soundings />
        <h1 className="mt-8 text-4xl tracking-tight">Tarnfell</h1>
        <p className="mt-3 max-w-md text-lg leading-snug">
          Can this site carry the calls it is about to be given, all day, every day? And if not, what exactly
          must change?
        </p>
      </div>
      <form onSubmit={signIn} className="space-y-4 border-l border-ink pl-10">
        <h2 className="text-lg">Sign in</h2>
        <Field label="Email address">
          <input name="email" type="email" required autoComplete="username" className={INPUT} />
        </Field>
        <Field label="Password">
          <input name="password" type="password" required autoComplete="current-password" className={INPUT} />
        </Field>
        {error && <Note>{error}</Note>}
        <Button act type="submit" disabled={busy}>
          Sign in
        </Button>
      </form>
    </main>
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
