// Behind a link that lets somebody in: into an engagement, or to a new password.
import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useEffect, useState } from "react";
import { useParams } from "react-router";
import { get, type Model, post } from "../api/client";
import { Button, Field, INPUT, Note } from "../ui/controls";
import { Mark } from "../ui/mark";

const MAY = {
  consultant: "You will do everything there: measure, judge, issue reports, invite others.",
  colleague: "You will measure and judge there with the others.",
  customer: "You will read the reports that are issued, and what else is shown to you.",
} as const;

export function WelcomeScreen() {
  const { code } = useParams();
  const page = useQuery({
    queryKey: ["welcome", code],
    queryFn: () => get("WelcomePage", `/api/welcome/${code}`),
    retry: false,
    refetchOnWindowFocus: false,
  });
  useEffect(() => {
    document.title = "Welcome · Tarnfell";
  }, []);
  return (
    <main className="mx-auto max-w-[560px] px-5 pt-5 pb-20">
      <p className="flex flex-wrap items-center gap-2 font-semibold">
        <Mark /> Tarnfell
      </p>
      {page.error && (
        <div className="mt-8">
          <Note>{page.error.message}</Note>
        </div>
      )}
      {page.data && <Letter page={page.data} code={code ?? ""} />}
    </main>
  );
}

function Letter({ page, code }: { page: Model<"WelcomePage">; code: string }) {
  const [problem, setProblem] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  const invited = page.kind === "invitation";
  const send = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = Object.fromEntries(new FormData(event.currentTarget));
    setBusy(true);
    try {
      await post("Session", `/api/welcome/${code}/${invited ? "enter" : "password"}`, form);
      // A fresh page, as whoever this is now.
      location.assign("/");
    } catch (error) {
      setProblem((error as Error).message);
      setBusy(false);
    }
  };
  return (
    <>
      <h1 className="mt-6 text-3xl leading-tight tracking-tight">
        {invited ? `Join ${page.engagement_name}` : "Set a new password"}
      </h1>
      <p className="mt-2 leading-snug">
        {invited
          ? `${page.by ? `${page.by} invites you` : "You are invited"} as a ${page.role}. ${page.role ? MAY[page.role] : ""}`
          : "You will be signed out everywhere else."}
      </p>
      <form onSubmit={send} className="mt-6 space-y-4">
        <Field label="Email address">
          <input className={INPUT} autoComplete="username" value={page.email} readOnly />
        </Field>
        {invited && !page.has_account && (
          <Field label="Your name">
            <input className={INPUT} name="name" autoComplete="name" required />
          </Field>
        )}
        <Field
          label="Password"
          hint={page.has_account && invited ? "of your account here" : "at least 10 characters"}
        >
          <input
            className={INPUT}
            name="password"
            type="password"
            required
            autoComplete={page.has_account && invited ? "current-password" : "new-password"}
          />
        </Field>
        {problem && <Note>{problem}</Note>}
        <Button act type="submit" disabled={busy}>
          {invited ? "Join" : "Set password"}
        </Button>
      </form>
    </>
  );
}
