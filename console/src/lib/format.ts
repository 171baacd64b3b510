/** Numbers with their units and times, as people read them. */

const BYTES = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];

export interface Scaled {
  value: string;
  unit: string;
}

function digits(value: number): string {
  const size = Math.abs(value);
  if (size >= 100 || Number.isInteger(value)) return value.toFixed(0);
  return size >= 10 ? value.toFixed(1) : value.toFixed(2);
}

/** From so many on, seconds are said in minutes, hours and days. */
const LONG_SECONDS = 120;

function signed(seconds: number): string {
  const length = duration(Math.abs(seconds)).replace(/ 0 (h|min|s)$/, "");
  return seconds < 0 ? `-${length}` : length;
}

/** The unit of numbers that stand for states, 1 for up and 0 for down: no measure that anybody reads. */
export const STATE = "{state}";

/** A value of a UCUM unit: `scaled(0.953, "1")` is 95.3 %, `scaled(2 ** 31, "By")` 2.00 GiB. */
export function scaled(value: number | null | undefined, unit: string): Scaled {
  if (value === null || value === undefined || !Number.isFinite(value)) return { value: "–", unit: "" };
  if (unit === STATE) return { value: digits(value), unit: "" };
  if (unit === "1") return { value: digits(value * 100), unit: "%" };
  if (unit === "By" || unit === "By/s") {
    let size = value;
    let step = 0;
    while (Math.abs(size) >= 1024 && step < BYTES.length - 1) {
      size /= 1024;
      step += 1;
    }
    return { value: digits(size), unit: `${BYTES[step]}${unit === "By/s" ? "/s" : ""}` };
  }
  if (unit === "s") {
    if (value !== 0 && Math.abs(value) < 1) return { value: digits(value * 1000), unit: "ms" };
    if (Math.abs(value) >= LONG_SECONDS) return { value: signed(value), unit: "" };
    return { value: digits(value), unit: "s" };
  }
  const whole = WHOLE.test(unit) && !FINE.includes(unit);
  if (whole && value !== 0 && Math.abs(value) < 0.5) return { value: "under 1", unit: unit.slice(1, -1) };
  if (whole && Math.abs(value) < 1e4) return counts(Math.round(value), unit);
  const plain = unit.replace(/\{(\w+?)\}/g, (_, noun) => (Math.abs(value) === 1 ? noun : many(noun)));
  if (Math.abs(value) >= 1e6) return { value: digits(value / 1e6), unit: `M ${plain}`.trim() };
  if (Math.abs(value) >= 1e4) return { value: digits(value / 1e3), unit: `k ${plain}`.trim() };
  return { value: digits(value), unit: plain === "1/s" ? "/s" : plain };
}

/** Units of things that are whole: a mean of them is said as a whole number too. */
const WHOLE = /^\{\w+\}$/;
const FINE = ["{core}", "{day}"];

function counts(value: number, unit: string): Scaled {
  const noun = unit.slice(1, -1);
  return { value: String(value), unit: Math.abs(value) === 1 ? noun : many(noun) };
}

/** `many("process")` is processes, `many("entry")` entries. */
function many(noun: string): string {
  if (/(s|x|ch)$/.test(noun)) return `${noun}es`;
  return /[^aeiou]y$/.test(noun) ? `${noun.slice(0, -1)}ies` : `${noun}s`;
}

export function withUnit(value: number | null | undefined, unit: string): string {
  const { value: number, unit: name } = scaled(value, unit);
  return name ? `${number} ${name}` : number;
}

/** A length of time in its two largest units: `duration(4030)` is 1 h 7 min. */
export function duration(seconds: number): string {
  const s = Math.max(0, Math.round(seconds));
  if (s < 60) return `${s} s`;
  if (s < 3600) return s < 600 && s % 60 ? `${Math.floor(s / 60)} min ${s % 60} s` : `${Math.floor(s / 60)} min`;
  if (s < 86400) return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
  return `${Math.floor(s / 86400)} d ${Math.floor((s % 86400) / 3600)} h`;
}

const two = (n: number): string => String(n).padStart(2, "0");
const DAYS = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];
const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

export function clock(unixSeconds: number, seconds = false): string {
  const d = new Date(unixSeconds * 1000);
  const hm = `${two(d.getHours())}:${two(d.getMinutes())}`;
  return seconds ? `${hm}:${two(d.getSeconds())}` : hm;
}

export function day(unixSeconds: number): string {
  const d = new Date(unixSeconds * 1000);
  return `${DAYS[d.getDay()]} ${d.getDate()} ${MONTHS[d.getMonth()]}`;
}

function sameDay(a: number, b: number): boolean {
  return new Date(a * 1000).toDateString() === new Date(b * 1000).toDateString();
}

/** A moment with its date when it is not today's. */
export function moment(unixSeconds: number, now: number, seconds = false): string {
  const time = clock(unixSeconds, seconds);
  return sameDay(unixSeconds, now) ? time : `${day(unixSeconds)}, ${time}`;
}

/** Two ends of a span: `02:30 – 05:30, Mon 23 Nov`. */
export function stretch(start: number, end: number): string {
  const fine = end - start < 600;
  if (sameDay(start, end)) return `${clock(start, fine)} – ${clock(end, fine)}, ${day(start)}`;
  return `${day(start)} ${clock(start)} – ${day(end)} ${clock(end)}`;
}

export function unix(rfc3339: string): number {
  return Date.parse(rfc3339) / 1000;
}

export function plural(count: number, one: string, many = `${one}s`): string {
  return `${count} ${count === 1 ? one : many}`;
}

const WORDS = ["No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten", "Eleven", "Twelve"];
export function counted(count: number): string {
  return WORDS[count] ?? String(count);
}

/** A moment on an axis: the time of day, or for spans of days the day. */
export function dayAndTime(unixSeconds: number, span: number): string {
  const d = new Date(unixSeconds * 1000);
  return span > 2 * 86400 ? `${d.getDate()} ${MONTHS[d.getMonth()]}` : clock(unixSeconds);
}

/** A share of time, as finely as it has to be said: `share(0.99953)` is 99.953 %, `share(1)` 100 %. */
export function share(part: number): string {
  if (part >= 1 || part <= 0) return `${part >= 1 ? 100 : 0} %`;
  // What is not all is never said as all.
  const percent = Math.min(99.999, Math.max(0.001, part * 100));
  return `${Number(percent.toFixed(percent > 99 || percent < 1 ? 3 : 1))} %`;
}
