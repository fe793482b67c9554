// The relay that an engagement's browsers may go through where UDP is blocked.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, type Model, put, remove } from "../../api/client";
import { Button, Field, INPUT, Note } from "../../ui/controls";

type View = Model<"RelayView">;

const PORT = 3478;
const TLS_PORT = 5349;

export function Relay({ engagement, name }: { engagement: string; name: string }) {
  const path = `/api/engagements/${engagement}/relay`;
  const key = ["relay", engagement];
  const queries = useQueryClient();
  const page = useQuery({ queryKey: key, queryFn: () => get("RelayPage", path) });
  const change = useMutation({
    mutationFn: (form: Model<"RelayForm"> | null) =>
      form ? put("RelayPage", path, form) : remove("RelayPage", path),
    onSuccess: (fresh) => queries.setQueryData(key, fresh),
  });
  if (!page.data) return null;
  const relay = page.data.relay;
  return (
    <details className="mt-8 max-w-[75ch] border-t border-hair pt-3">
      <summary className="cursor-pointer">
        <span className="text-lg">Where UDP is blocked</span>
        <span className="ml-3 text-soft">
          {relay ? `the relay ${relay.host}, port ${relay.port}` : "no relay is named"}
        </span>
      </summary>
      <p className="mt-2 leading-snug text-soft">
        A relay (TURN, RFC 8656) may carry calls over TCP or TLS where a firewall lets no UDP out. With one
        named here, each browser of {name} also says over what it reaches the relay, and where UDP does not
        pass, it places its calls once more through it. Those are shown, and never count.
      </p>
      {change.error && (
        <div className="mt-3">
          <Note>{change.error.message}</Note>
        </div>
      )}
      <RelayFields
        key={JSON.stringify(relay)}
        relay={relay}
        save={(form) => change.mutate(form)}
        removed={() => change.mutate(null)}
      />
    </details>
  );
}

function RelayFields({
  relay,
  save,
  removed,
}: {
  relay: View | null;
  save: (form: Model<"RelayForm">) => void;
  removed: () => void;
}) {
  const [host, setHost] = useState(relay?.host ?? "");
  const [port, setPort] = useState(String(relay?.port ?? PORT));
  const [tlsPort, setTlsPort] = useState(relay ? String(relay.tls_port ?? "") : String(TLS_PORT));
  const [user, setUser] = useState(relay?.user ?? "");
  const [secret, setSecret] = useState("");
  // A password and a shared secret do not stand in for each other.
  const kept = relay !== null && Boolean(relay.user) === Boolean(user);
  return (
    <form
      className="mt-3"
      onSubmit={(event) => {
        event.preventDefault();
        save({
          host,
          port: Number(port),
          tls_port: tlsPort ? Number(tlsPort) : null,
          user,
          secret: secret || null,
        });
      }}
    >
      <div className="grid gap-3 sm:grid-cols-[2fr_1fr_1fr]">
        <Field label="Host">
          <input
            className={INPUT}
            required
            maxLength={253}
            value={host}
            onChange={(e) => setHost(e.target.value)}
          />
        </Field>
        <Field label="Port, UDP and TCP">
          <input
            className={INPUT}
            type="number"
            required
            min={1}
            max={65535}
            value={port}
            onChange={(e) => setPort(e.target.value)}
          />
        </Field>
        <Field label="Port, TLS (or none)">
          <input
            className={INPUT}
            type="number"
            min={1}
            max={65535}
            value={tlsPort}
            onChange={(e) => setTlsPort(e.target.value)}
          />
        </Field>
      </div>
      <div className="mt-3 grid gap-3 sm:grid-cols-2">
        <Field
          label="User"
          hint="Empty where the relay shares a secret; each page then gets a name for two hours."
        >
          {(hintId) => (
            <input
              aria-describedby={hintId}
              className={INPUT}
              autoComplete="off"
              maxLength={200}
              value={user}
              onChange={(e) => setUser(e.target.value)}
            />
          )}
        </Field>
        <Field
          label={user ? "Password" : "Shared secret"}
          hint={
            user ? "Whoever opens a link could read it in the page." : "It stays here; browsers never see it."
          }
        >
          {(hintId) => (
            <input
              aria-describedby={hintId}
              className={INPUT}
              type="password"
              autoComplete="new-password"
              required={!kept}
              maxLength={200}
              placeholder={kept ? "as it is" : ""}
              value={secret}
              onChange={(e) => setSecret(e.target.value)}
            />
          )}
        </Field>
      </div>
      <p className="mt-3 flex gap-2">
        <Button type="submit">Keep the relay</Button>
        {relay && <Button onClick={removed}>Remove it</Button>}
      </p>
    </form>
  );
}
