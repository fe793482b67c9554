// Whether a relay can be used, and over what: it may let calls through where UDP does not pass.
import type { Model } from "../api/client";

type Relay = Model<"TestRelay">;
type Tried = Model<"RelayFound">;
type By = Tried["by"];

const WAIT_MS = 6000;

/** Over each of UDP, TCP and TLS at once, as far as the relay takes it. */
export function tryRelay(relay: Relay): Promise<Tried[]> {
  return Promise.all(addresses(relay).map(([by, url]) => tryOver(by, configuration(relay, [url]))));
}

/** For a connection that goes through the relay and no other way, over what was open. */
export function throughRelay(relay: Relay, tried: Tried[]): RTCConfiguration | null {
  const open = tried.filter((one) => one.took_ms !== null).map((one) => one.by);
  const urls = addresses(relay).filter(([by]) => open.includes(by));
  return urls.length > 0
    ? configuration(
        relay,
        urls.map(([, url]) => url),
      )
    : null;
}

function addresses(relay: Relay): [By, string][] {
  const all: [By, string | null][] = [
    ["udp", relay.udp],
    ["tcp", relay.tcp],
    ["tls", relay.tls],
  ];
  return all.filter((one): one is [By, string] => one[1] !== null);
}

function configuration(relay: Relay, urls: string[]): RTCConfiguration {
  return {
    iceServers: [{ urls, username: relay.user, credential: relay.password }],
    iceTransportPolicy: "relay",
  };
}

async function tryOver(by: By, how: RTCConfiguration): Promise<Tried> {
  const tried: Tried = { by, took_ms: null, code: 0, words: "" };
  const peer = new RTCPeerConnection(how);
  try {
    peer.createDataChannel("relay");
    const over = new Promise<void>((done) => {
      peer.onicecandidateerror = (event) => {
        tried.code = event.errorCode;
        tried.words = event.errorText.slice(0, 200);
      };
      peer.onicecandidate = (event) => {
        if (event.candidate?.type === "relay") tried.took_ms ??= performance.now() - began;
        if (event.candidate === null || tried.took_ms !== null) done();
      };
      setTimeout(done, WAIT_MS);
    });
    const began = performance.now();
    await peer.setLocalDescription(await peer.createOffer());
    await over;
    return tried;
  } catch (error) {
    // An address or a password that this browser does not take.
    return { ...tried, words: String(error instanceof Error ? error.message : error).slice(0, 200) };
  } finally {
    peer.close();
  }
}
