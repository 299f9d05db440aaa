// When what a page shows is asked for again.

/** every calls fn now and then again and again, for as long as the page is open. Use it inside $effect. */
function every(milliseconds: number, fn: () => void): () => void {
  fn();
  const timer = setInterval(() => document.hidden || fn(), milliseconds);
  return () => clearInterval(timer);
}

// One stream of events for the whole page tells that something has changed; what is shown is then asked for again. A
// page that nobody sees has none: a browser holds few connections to one place.
const shown = new Set<() => void>();
let stream: EventSource | undefined;

function listen() {
  if (stream || document.hidden || shown.size === 0) return;
  stream = new EventSource("/api/v1/events");
  stream.addEventListener("changed", () => shown.forEach((fn) => fn()));
}

function hush() {
  stream?.close();
  stream = undefined;
}

document.addEventListener("visibilitychange", () => (document.hidden ? hush() : listen()));

/** whenChanged calls fn now, when something has changed in the service, and once a minute. Use it inside $effect. */
export function whenChanged(fn: () => void): () => void {
  shown.add(fn);
  listen();
  const stop = every(60_000, fn); // what the service's records do not tell, and whatever a stream may have lost
  return () => {
    stop();
    shown.delete(fn);
    if (shown.size === 0) hush();
  };
}
