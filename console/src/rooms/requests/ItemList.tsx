import type { RequestDetail } from '../../api/client';
import style from '../common/Rooms.module.css';

const marks: Record<string, string> = { new: 'new', changed: 'changed', gone: 'no longer in it', struck: 'taken out' };

/** The things in a plan that are decided on: what is new since it was last seen, and what can be left out. */
export function ItemList({
  request,
  without,
  setWithout,
}: {
  request: RequestDetail;
  without: ReadonlySet<string>;
  setWithout: (keys: ReadonlySet<string>) => void;
}) {
  const mine = request.rights.items ?? [];
  const toggle = (key: string) => {
    const after = new Set(without);
    if (!after.delete(key)) after.add(key);
    setWithout(after);
  };
  return (
    <>
      <h3 className={style.stepwise}>
        What you decide{request.rights.inPart && <small className={style.quiet}> untick what you decline</small>}
      </h3>
      <ul className={style.items} aria-label="Items of the plan">
        {request.items.map((item) => {
          const can = request.rights.inPart && item.canBeStruck && (mine.length === 0 || mine.includes(item.key));
          return (
            <li key={item.key}>
              {can ? (
                <input
                  type="checkbox"
                  aria-label={`Approve ${item.title}`}
                  checked={!without.has(item.key)}
                  onChange={() => toggle(item.key)}
                />
              ) : (
                <span />
              )}
              <span className={without.has(item.key) ? style.gone : undefined}>
                {item.title} <small className={style.fine}>{item.key}</small>
              </span>
              <span>
                {item.privileged && <span className={style.tag}>privileged</span>}{' '}
                {item.mark && <span className={`${style.tag} ${style.tagNew}`}>{marks[item.mark] ?? item.mark}</span>}
              </span>
            </li>
          );
        })}
        {request.gone.map((item) => (
          <li key={item.key}>
            <span />
            <span className={style.gone}>
              {item.title} <small className={style.fine}>{item.key}</small>
            </span>
            <span className={style.tag}>{marks[item.mark] ?? item.mark}</span>
          </li>
        ))}
      </ul>
    </>
  );
}
