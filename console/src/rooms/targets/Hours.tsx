import type { Schemas } from '../../api/client';
import { at } from '../../parts/when';
import style from '../common/Rooms.module.css';
import own from './Targets.module.css';

const shown = 48;
const hour = 3_600_000;

/** The hours up to now, the oldest first; those in which nothing was done are empty. */
export function filled(hours: Schemas['TargetHour'][], now: number): Schemas['TargetHour'][] {
  const known = new Map(hours.map((h) => [new Date(h.at).getTime(), h]));
  const last = Math.floor(now / hour) * hour;
  return Array.from({ length: shown }, (_, i) => {
    const start = last - (shown - 1 - i) * hour;
    return known.get(start) ?? { at: new Date(start).toISOString(), done: 0, failed: 0 };
  });
}

/** What was done hour by hour: done above the line, hatched below it what did not succeed because of the target. */
export function Hours({ hours }: { hours: Schemas['TargetHour'][] }) {
  const all = filled(hours, Date.now());
  const most = Math.max(1, ...all.map((h) => Math.max(h.done, h.failed)));
  const number = (n: number) => n.toLocaleString('en');
  const [done, failed] = [all.reduce((sum, h) => sum + h.done, 0), all.reduce((sum, h) => sum + h.failed, 0)];
  return (
    <section className={style.sheet} aria-labelledby="hours">
      <h2 id="hours">The last two days</h2>
      <p className={style.quiet}>
        {done === 0 && failed === 0
          ? 'Nothing was done in it.'
          : `${number(done)} steps were done; ${failed === 0 ? 'none' : number(failed)} failed. The busiest hour had ${number(most)}.`}
      </p>
      <div className={own.hours} role="img" aria-label={`${done} steps done and ${failed} attempts failed in two days`}>
        {all.map((h) => (
          <span key={h.at} title={`${at(h.at)}: ${h.done} done, ${h.failed} failed`}>
            <i className={own.done} style={{ height: `${(h.done / most) * 100}%` }} />
            <i className={own.failed} style={{ height: `${(h.failed / most) * 100}%` }} />
          </span>
        ))}
      </div>
      <p className={own.scale} aria-hidden="true">
        <span>48 hours ago</span>
        <span>24</span>
        <span>now</span>
      </p>
    </section>
  );
}
