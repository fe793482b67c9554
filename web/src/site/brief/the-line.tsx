// The line, who runs it, and what it adds to every packet.
import { Section } from "../../ui/controls";
import { CheckField, NumberField, TextField } from "../../ui/fields";
import { whole } from "../../ui/format";
import type { PartProps } from "./part";

export function TheLine({ form, change }: PartProps) {
  return (
    <Section title="The line and its overheads">
      <div className="grid md:grid-cols-4 gap-x-5 gap-y-4">
        <TextField
          label="Access type"
          value={form.medium ?? ""}
          onChange={(medium) => change({ medium })}
          placeholder="Fibre"
        />
        <NumberField
          label="Down"
          unit="Mbit/s"
          value={megabits(form.down_kbps)}
          onChange={(rate) => change({ down_kbps: kilobits(rate) })}
        />
        <NumberField
          label="Up"
          unit="Mbit/s"
          value={megabits(form.up_kbps)}
          onChange={(rate) => change({ up_kbps: kilobits(rate) })}
        />
        <NumberField
          label="Maximum line share for tests"
          unit="%"
          value={form.ceiling_pct ?? null}
          onChange={(ceiling_pct) => change({ ceiling_pct })}
          placeholder="no ceiling"
        />
      </div>
      <div className="mt-4 grid md:grid-cols-4 gap-x-5 gap-y-4">
        <TextField
          label="Provider"
          value={form.provider ?? ""}
          onChange={(provider) => change({ provider })}
        />
        <TextField
          label="Line managed by"
          value={form.line_by ?? ""}
          onChange={(line_by) => change({ line_by })}
        />
        <TextField
          label="Firewall managed by"
          value={form.firewall_by ?? ""}
          onChange={(firewall_by) => change({ firewall_by })}
        />
        <TextField
          label="Switches managed by"
          value={form.switches_by ?? ""}
          onChange={(switches_by) => change({ switches_by })}
        />
      </div>
      <div className="mt-5 grid md:grid-cols-4 items-start gap-x-5 gap-y-3">
        <CheckField
          label="IPv6"
          hint="20 bytes more"
          value={form.ipv6 ?? false}
          onChange={(ipv6) => change({ ipv6 })}
        />
        <CheckField
          label="Encrypted media"
          hint="SRTP, 10 bytes"
          value={form.srtp ?? false}
          onChange={(srtp) => change({ srtp })}
        />
        <CheckField
          label="PPPoE line"
          hint="8 bytes"
          value={form.pppoe ?? false}
          onChange={(pppoe) => change({ pppoe })}
        />
        <NumberField
          label="Metered line: loads move at most"
          unit="MB a day"
          value={form.metered_mb ?? null}
          onChange={(metered) => change({ metered_mb: whole(metered) })}
          placeholder="not metered"
        />
        <NumberField
          label="VLAN tags"
          value={form.vlan_tags ?? 0}
          onChange={(tags) => change({ vlan_tags: whole(tags) ?? 0 })}
          hint="4 bytes each"
        />
        <NumberField
          label="Tunnel"
          unit="bytes"
          value={form.tunnel_bytes ?? 0}
          onChange={(bytes) => change({ tunnel_bytes: whole(bytes) ?? 0 })}
          hint="VPN overhead per packet"
        />
      </div>
    </Section>
  );
}

function megabits(kbps: number | null | undefined): number | null {
  return kbps == null ? null : kbps / 1000;
}

function kilobits(rate: number | null): number | null {
  return rate === null ? null : Math.round(rate * 1000);
}
