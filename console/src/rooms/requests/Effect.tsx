import type { Schemas } from '../../api/client';
import { dayThere, moment, onDay, type Place } from '../../parts/when';
import rooms from '../common/Rooms.module.css';
import { useWords } from '../common/words';
import style from './Effect.module.css';

type Line = Schemas['EffectLine'];

/** When a line begins and ends, at the days of its place; nothing where it begins with the request and has no end. */
export function termOf(line: Line, side: 'gained' | 'changed' | 'kept' | 'lost', place: Place | undefined): string {
  const said = [];
  if (line.from) {
    const day = place && dayThere(line.from, place.zone, side === 'lost' ? 'end' : 'begin');
    const on = side === 'lost' ? 'at the end of' : 'from';
    said.push(day ? `${on} ${onDay(day)}` : `${side === 'lost' ? 'at' : 'from'} ${moment(line.from, undefined, 'begin')}`);
  }
  if (line.until) {
    const day = place && dayThere(line.until, place.zone, 'end');
    said.push(`until ${day ? onDay(day) : moment(line.until, undefined, 'end')}`);
  }
  return said.join(', ');
}

/** Lines with the same term and the same reason are told together. */
export function together(lines: readonly Line[]): Line[][] {
  const groups = new Map<string, Line[]>();
  for (const line of lines) {
    const key = line.attributes.length > 0 ? line.key : `${line.from ?? ''}|${line.until ?? ''}|${line.why}`;
    groups.set(key, [...(groups.get(key) ?? []), line]);
  }
  return [...groups.values()];
}

const sides = [
  ['gained', 'Gained'],
  ['changed', 'Changed'],
  ['kept', 'Kept'],
  ['lost', 'Lost'],
] as const;

/** What comes of a plan for the person: gained, changed, kept and lost, each with its days and its reason. */
export function Effect({ effect, place }: { effect: Schemas['PlanEffect']; place?: Place }) {
  const words = useWords();
  const shown = sides.filter(([side]) => effect[side].length > 0);
  if (shown.length === 0) return <p className={rooms.quiet}>Nothing is given, changed or taken.</p>;
  return (
    <dl className={style.effect}>
      {shown.map(([side, title]) => (
        <div key={side} className={style[side]}>
          <dt>
            {title} <small>{effect[side].length}</small>
          </dt>
          <dd>
            <ul>
              {together(effect[side]).map((lines) => {
                const line = lines[0] as Line;
                const term = termOf(line, side, place);
                return (
                  <li key={line.key}>
                    <b>{lines.map((l) => l.title).join(', ')}</b>
                    {lines.some((l) => l.privileged) && <span className={`${rooms.tag} ${rooms.tagNew}`}>privileged</span>}
                    {term && <span className={style.term}>{term}</span>}
                    {side === 'changed' &&
                      line.attributes.map((a) => (
                        <span key={a.name} className={style.attribute}>
                          {words.held(line.target, a.name)} {a.before.length > 0 && <del>{a.before.join(', ')}</del>} →{' '}
                          {a.after.length > 0 ? <ins>{a.after.join(', ')}</ins> : 'removed'}
                        </span>
                      ))}
                    <small className={style.why}>{line.why}</small>
                  </li>
                );
              })}
            </ul>
          </dd>
        </div>
      ))}
    </dl>
  );
}
