const day = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric', timeZone: 'UTC' });
const minute = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit' });

/** A day without a time, such as 2 Nov 2026. */
export const onDay = (iso: string) => day.format(new Date(`${iso.slice(0, 10)}T00:00:00Z`));

/** An instant in the reader's own time zone. */
export const at = (iso: string) => minute.format(new Date(iso));

/** Where days begin and end: a time zone, and what people call the place. */
export interface Place {
  zone: string;
  title: string;
}

const clockIn = (zone: string) =>
  new Intl.DateTimeFormat('en-CA', {
    timeZone: zone,
    year: 'numeric',
    month: '2-digit',
    day: '2-digit',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    hourCycle: 'h23',
  });

/**
 * The day of a place that begins at an instant, or (as an end) the last day before it; undefined when the instant is no
 * midnight there.
 */
export function dayThere(iso: string, zone: string, side: 'begin' | 'end'): string | undefined {
  const part = Object.fromEntries(
    clockIn(zone)
      .formatToParts(new Date(iso))
      .map((p) => [p.type, p.value]),
  );
  if (part.hour !== '00' || part.minute !== '00' || part.second !== '00') return undefined;
  const midnight = Date.UTC(Number(part.year), Number(part.month) - 1, Number(part.day));
  return new Date(side === 'end' ? midnight - 86_400_000 : midnight).toISOString().slice(0, 10);
}

/** An instant that a rule about days made, as the day at its place; any other in the reader's own time zone. */
export function moment(iso: string, place: Place | undefined, side: 'begin' | 'end'): string {
  const found = place && dayThere(iso, place.zone, side);
  return found ? `${onDay(found)}, ${place.title}` : at(iso);
}

/** How long ago, in one unit. */
export function ago(iso: string, now: number = Date.now()): string {
  const minutes = Math.floor((now - Date.parse(iso)) / 60_000);
  if (minutes < 1) return 'just now';
  if (minutes < 60) return `${minutes} min`;
  if (minutes < 60 * 24) return `${Math.floor(minutes / 60)} h`;
  return `${Math.floor(minutes / 60 / 24)} d`;
}

/** The same as a phrase: "just now", or "5 min ago". */
export const agoText = (iso: string, now?: number): string => {
  const text = ago(iso, now);
  return text === 'just now' ? text : `${text} ago`;
};

/** How long until an instant, in one unit; "late" when it is over. */
export function ahead(iso: string, now: number = Date.now()): string {
  const minutes = Math.ceil((Date.parse(iso) - now) / 60_000);
  if (minutes <= 0) return 'late';
  if (minutes < 60) return `in ${minutes} min`;
  if (minutes < 60 * 48) return `in ${Math.round(minutes / 60)} h`;
  return `in ${Math.round(minutes / 60 / 24)} d`;
}
