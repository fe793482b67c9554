// A worker that says when a few milliseconds are over: timers of the page itself are slowed while it is not looked at.
const EVERY_MS = 4;

setInterval(() => postMessage(performance.timeOrigin + performance.now()), EVERY_MS);
