import type { Schemas } from '../../api/client';
import style from '../common/Rooms.module.css';
import book from '../rulebook/Rulebook.module.css';

export function Figure({ count, word }: { count: number; word: string }) {
  return (
    <div>
      <b>{count.toLocaleString('en')}</b>
      <span>{word}</span>
    </div>
  );
}

/** Gained to the right of the name, lost hatched before it: the form tells them apart without colour. */
export function Bars({ title, tallies, narrow }: { title: string; tallies: Schemas['TallyView'][]; narrow?: boolean }) {
  const most = Math.max(1, ...tallies.map((t) => Math.max(t.gained, t.lost, t.changed)));
  const width = (count: number) => `${(count / most) * (narrow ? 4 : 10)}rem`;
  return (
    <section className={style.sheet} aria-label={title}>
      <h2>{title}</h2>
      <table className={book.bars}>
        <thead className="unseen">
          <tr>
            <th scope="col">Name</th>
            <th scope="col">Lost</th>
            <th scope="col">Gained or changed</th>
          </tr>
        </thead>
        <tbody>
          {tallies.slice(0, 12).map((t) => (
            <tr key={t.name}>
              <th scope="row">{t.name}</th>
              <td>
                {t.lost > 0 && (
                  <>
                    {t.lost} lost <span className={`${book.bar} ${book.lost}`} style={{ width: width(t.lost) }} />
                  </>
                )}
              </td>
              <td>
                {t.gained > 0 && (
                  <>
                    <span className={`${book.bar} ${book.gained}`} style={{ width: width(t.gained) }} /> {t.gained} gained{' '}
                  </>
                )}
                {t.changed > 0 && (
                  <>
                    <span className={`${book.bar} ${book.changed}`} style={{ width: width(t.changed) }} /> {t.changed} changed
                  </>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** What changes for one person, with the template that brings each. */
export function Effects({ of }: { of: Schemas['EffectView'][] }) {
  return (
    <ul className={book.effects}>
      {of.map((e) => (
        <li key={e.kind + e.target + e.subject + e.from}>
          {e.text} <span className={style.quiet}>by {e.rule}</span>
        </li>
      ))}
    </ul>
  );
}
