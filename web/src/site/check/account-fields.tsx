// Where a check registers beside the far end: the customer's own registrar. The password is never shown again.
import type { Model } from "../../api/client";
import { NumberField, SelectField, TextField } from "../../ui/fields";

export type Account = NonNullable<Model<"WishForm">["account"]>;
export const NO_ACCOUNT: Account = {
  host: "",
  user: "",
  password: null,
  has_password: false,
  port: 5060,
  transport: "udp",
  domain: "",
};

export function AccountFields({
  account,
  isKept,
  onChange,
}: {
  account: Account;
  /** A password is kept for it. */
  isKept: boolean;
  onChange: (account: Account) => void;
}) {
  const set = (part: Partial<Account>) => onChange({ ...account, ...part });
  return (
    <>
      <TextField
        label="Registrar"
        hint="Empty: none is asked"
        value={account.host}
        onChange={(host) => set({ host: host.trim() })}
      />
      <SelectField
        label="Over"
        value={account.transport}
        onChange={(transport) =>
          set({
            transport: transport as Account["transport"],
            port: usualPort(transport, account.port),
          })
        }
        options={[
          ["udp", "UDP"],
          ["tcp", "TCP"],
          ["tls", "TLS"],
        ]}
      />
      <NumberField label="Port" value={account.port} onChange={(port) => set({ port: port ?? 5060 })} />
      <TextField label="User" value={account.user} onChange={(user) => set({ user: user.trim() })} />
      <TextField
        label="Password"
        secret
        hint={isKept ? "One is kept; empty leaves it as it is" : undefined}
        value={account.password ?? ""}
        onChange={(password) => set({ password: password === "" ? null : password })}
      />
      <TextField
        label="Domain"
        hint="Of the address of record, where it is not the registrar’s"
        value={account.domain}
        onChange={(domain) => set({ domain: domain.trim() })}
      />
    </>
  );
}

/** A port that somebody chose stays. */
function usualPort(transport: string, port: number): number {
  if (port !== 5060 && port !== 5061) return port;
  return transport === "tls" ? 5061 : 5060;
}
