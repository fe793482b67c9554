import type { Model } from "../api/client";

/** How the packets went, where that is not the way that calls take; after the name of the far end. */
export const BY_WAY: Record<Model<"SelfRun">["way"], string> = {
  straight: "",
  relay: ", through a relay",
  socket: ", which no UDP reached: over a WebSocket to this server instead",
};
