import style from './Lifeline.module.css';
import { onDay } from './when';

export interface Bar {
  name: string;
  kind: 'employment' | 'account' | 'grant';
  from: string;
  until?: string | null;
  note?: string;
  /** It is there, and cannot be used. */
  rests?: boolean;
}

export interface Mark {
  at: string;
  text: string;
}

const keyOf = (bar: Bar) => `${bar.kind} ${bar.name} ${bar.from}`;
const month = 30.44 * 86_400_000;
const width = 1000;
const rowHeight = 30;
const head = 30;

/** The span of time that is drawn: nine months around now, wider when a start or an end lies near beyond it. */
export function spanOf(bars: Bar[], marks: Mark[], now: number): [number, number] {
  const reach = 30 * month;
  const near = [...bars.flatMap((b) => [b.from, b.until ?? '']), ...marks.map((m) => m.at)]
    .map((t) => Date.parse(t))
    .filter((t) => !Number.isNaN(t) && Math.abs(t - now) < reach);
  return [Math.min(now - 9 * month, ...near.map((t) => t - month)), Math.max(now + 9 * month, ...near.map((t) => t + month))];
}

function ticks([from, until]: [number, number]): { at: number; text: string; strong: boolean }[] {
  const step = (until - from) / month > 40 ? 6 : (until - from) / month > 22 ? 3 : 2;
  const first = new Date(from);
  const found = [];
  for (let m = Math.ceil(first.getUTCMonth() / step) * step; ; m += step) {
    const at = Date.UTC(first.getUTCFullYear(), m, 1);
    if (at > until) return found;
    const date = new Date(at);
    if (at >= from)
      found.push({
        at,
        text: date.toLocaleDateString('en-GB', {
          month: 'short',
          year: date.getUTCMonth() === 0 || found.length === 0 ? '2-digit' : undefined,
          timeZone: 'UTC',
        }),
        strong: date.getUTCMonth() === 0,
      });
  }
}

/** A time axis with employment, accounts and grants as bars from–until, and today's line through it. */
export function Lifeline({ title, bars, marks = [], now = Date.now() }: { title: string; bars: Bar[]; marks?: Mark[]; now?: number }) {
  const span = spanOf(bars, marks, now);
  const x = (time: number) => ((time - span[0]) / (span[1] - span[0])) * width;
  const height = head + bars.length * rowHeight + 10;
  const describe = (bar: Bar) =>
    `${bar.name}: from ${onDay(bar.from)} ${bar.until ? `until ${onDay(bar.until)}` : 'on, with no end'}${bar.note ? `, ${bar.note}` : ''}`;
  return (
    <figure className={style.figure}>
      <div className={style.names} aria-hidden="true" style={{ paddingTop: head }}>
        {bars.map((bar) => (
          <div key={keyOf(bar)} className={style.name} style={{ height: rowHeight }} title={bar.name}>
            {bar.name}
          </div>
        ))}
      </div>
      <svg
        className={style.axis}
        viewBox={`0 0 ${width} ${height}`}
        height={height}
        preserveAspectRatio="none"
        role="img"
        aria-label={title}
      >
        {ticks(span).map((tick) => (
          <line key={tick.at} x1={x(tick.at)} x2={x(tick.at)} y1={head - 6} y2={height} className={tick.strong ? style.year : style.tick} />
        ))}
        {bars.map((bar, i) => {
          const from = Date.parse(bar.from);
          const until = bar.until ? Date.parse(bar.until) : Number.POSITIVE_INFINITY;
          const left = Math.max(-4, x(from));
          const right = Math.min(width + 4, x(until));
          return (
            <rect
              key={keyOf(bar)}
              x={left}
              y={head + i * rowHeight + 7}
              width={Math.max(3, right - left)}
              height={rowHeight - 14}
              className={`${style.bar} ${style[bar.kind] ?? ''} ${until < now || bar.rests ? style.past : ''}`}
            >
              <title>{describe(bar)}</title>
            </rect>
          );
        })}
        {marks.map((mark) => (
          <line
            key={mark.at + mark.text}
            x1={x(Date.parse(mark.at))}
            x2={x(Date.parse(mark.at))}
            y1={head}
            y2={height}
            className={style.mark}
          >
            <title>{`${onDay(mark.at)}: ${mark.text}`}</title>
          </line>
        ))}
        <line x1={x(now)} x2={x(now)} y1={head - 10} y2={height} className={style.today} />
      </svg>
      <div className={style.labels} aria-hidden="true">
        {ticks(span)
          .filter((tick) => Math.abs(x(tick.at) - x(now)) > 42)
          .map((tick) => (
            <span key={tick.at} className={tick.strong ? style.strong : undefined} style={{ left: `${x(tick.at) / 10}%` }}>
              {tick.text}
            </span>
          ))}
        <span className={style.now} style={{ left: `${x(now) / 10}%` }}>
          Today
        </span>
      </div>
      <figcaption className="unseen">
        <ul>
          {bars.map((bar) => (
            <li key={keyOf(bar)}>{describe(bar)}</li>
          ))}
          {marks.map((mark) => (
            <li key={mark.at + mark.text}>{`${onDay(mark.at)}: ${mark.text}`}</li>
          ))}
        </ul>
      </figcaption>
    </figure>
  );
}
