// Numbers with units, and times in the viewer's zone.
const whole = new Intl.NumberFormat("en", { maximumFractionDigits: 0 });
const clock = new Intl.DateTimeFormat("en-CA", {
  year: "numeric",
  month: "2-digit",
  day: "2-digit",
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  hourCycle: "h23"
});

export function count(n: number): string {
  return n < 0 ? "unknown" : whole.format(n);
}

export function plural(n: number, thing: string): string {
  return `${count(n)} ${thing}${n === 1 ? "" : "s"}`;
}

export function size(bytes: number): string {
  if (bytes < 0) return "unknown";
  const units = ["B", "KiB", "MiB", "GiB", "TiB"];
  let i = 0;
  for (; bytes >= 1024 && i < units.length - 1; i++) bytes /= 1024;
  return `${i === 0 || bytes >= 100 ? whole.format(bytes) : bytes.toFixed(1)} ${units[i]}`;
}

/** amount writes a signal's value with its unit. */
export function amount(value: number, unit: string): string {
  if (unit === "bytes") return size(value);
  if (unit === "milliseconds") return `${value.toFixed(1)} ms`;
  if (unit === "seconds") return `${value.toFixed(1)} s`;
  return count(value);
}

export function span(seconds: number): string {
  const s = Math.round(seconds);
  if (s < 60) return `${s} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min ${s % 60} s`;
  return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
}

export function local(iso: string): string {
  return clock.format(new Date(iso)).replace(",", "");
}

export function utc(iso: string): string {
  return new Date(iso)
    .toISOString()
    .replace("T", " ")
    .replace(/\.\d+Z$/, " UTC");
}

export function share(part: number, total: number): number {
  return total > 0 ? Math.min(100, (100 * part) / total) : 0;
}

/** leftOut is how many of a run's rows did not leave their table. */
export function leftOut(l: {
  unlinked: number;
  changed: number;
  vanished: number;
  held: number;
  skipped: number;
}): number {
  return l.unlinked + l.changed + l.vanished + l.held + l.skipped;
}

/** money writes a price; null: nobody knows it. */
export function money(amount: number | null | undefined, currency = ""): string {
  if (amount === null || amount === undefined) return "price unknown";
  const text = amount !== 0 && amount < 0.01 ? "less than 0.01" : amount.toFixed(2);
  return `${text} ${currency}`.trim();
}

/** several are the parts of a text that has any, without the space around them. */
export function several(text: string, by: string): string[] {
  return text
    .split(by)
    .map((s) => s.trim())
    .filter(Boolean);
}

/** lasting says an ISO 8601 length of time in words, where it has one unit. */
export function lasting(iso: string | undefined): string {
  const m = /^P(?:T(\d+)([HMS])|(\d+)([DWMY]))$/.exec(iso ?? "");
  if (!m) return iso || "unknown time";
  const names: Record<string, string> = m[1]
    ? { H: "hour", M: "minute", S: "second" }
    : { D: "day", W: "week", M: "month", Y: "year" };
  return plural(Number(m[1] ?? m[3]), names[(m[2] ?? m[4])!]!);
}

/** short is the end of an identifier, which is the part that differs. */
export function short(id: string): string {
  return id.length > 12 ? "…" + id.slice(-8) : id;
}

/** age shows an age value of a table: dates and times without the T and the zone that is UTC anyway. */
export function age(text: string): string {
  return text.replace("T", " ").replace("Z", "") || "–";
}

/** day shows a bound of a partition, without the time of day where that is midnight. */
export function day(bound: string | undefined): string {
  return age((bound ?? "").replace(/\+00$/, "").replace(/[ T]00:00:00Z?$/, ""));
}
