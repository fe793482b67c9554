// What became of a message about an alert, in words.
import type { Model } from "../api/client";
import { ago, duration } from "../ui/format";

const WHAT = { begun: "alert", ended: "all-clear", trial: "test" } as const;

export function deliveryWords(one: Model<"DeliveryView">): string {
  const by = `${WHAT[one.what]} ${one.channel === "mail" ? "by email" : "to the webhook"}`;
  if (one.state === "sent") return `${by} sent ${ago(one.ended_us ?? one.next_us)}`;
  if (one.state === "failed") return `${by} given up: ${one.failure}`;
  if (one.failure) return `${by} not sent yet, ${one.failure}; tried ${one.tries} ×, again in ${wait(one)}`;
  return one.next_us > Date.now() * 1000 ? `${by} waits for the end of quiet hours` : `${by} being sent`;
}

const wait = (one: Model<"DeliveryView">) => duration(Math.max(0, one.next_us / 1e6 - Date.now() / 1000));
