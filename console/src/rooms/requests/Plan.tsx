import type { ChangeView, StepView } from '../../api/client';
import { StateMark } from '../../parts/StateMark';
import { at, dayThere, onDay, type Place } from '../../parts/when';
import style from '../common/Rooms.module.css';
import { useWords } from '../common/words';

/** States in which nothing of the plan has run: steps that are there were of an earlier plan. */
const before = new Set(['planning', 'choosing', 'deciding', 'asked', 'releasing']);

/** The steps of the plan as it is now; none before it is released. */
export const stepsOf = (state: string, steps: StepView[]) => (before.has(state) ? [] : steps);

/** The plan, before → after with the reason of each change; and how far each has come. */
export function Plan({ changes, steps, place }: { changes: ChangeView[]; steps: StepView[]; place?: Place }) {
  const states = new Map(steps.map((step) => [step.ordinal, step]));
  return (
    <ol className={style.changes}>
      {changes.map((change) => {
        const step = states.get(change.ordinal);
        return (
          <li key={change.ordinal} className={style.change}>
            <header>
              <b>{change.ordinal}</b>
              <span>
                {change.text}
                {change.due && <span className={style.later}> {whenOf(change, place)}</span>}
                {change.byRules && <span className={style.byRules}> comes of the changed rules</span>}
              </span>
              {step && <StateMark state={step.state} />}
            </header>
            {change.attributes.length > 0 && <Attributes change={change} />}
            {change.kind !== 'verify' && (
              <p className={style.because}>
                {change.reason.rule === 'request' ? (
                  <>
                    Asked for{change.reason.place ? ` in request ${change.reason.place}` : ''}:{' '}
                    {change.reason.condition || 'no reason given'}
                  </>
                ) : (
                  <>
                    Because of {change.reason.rule}, <code>{change.reason.place}</code>: {change.reason.condition}
                  </>
                )}
              </p>
            )}
            {step?.problem && <p className={style.problem}>{step.problem}</p>}
          </li>
        );
      })}
    </ol>
  );
}

/** What people read, and small beside it what engineers do. */
export function Titled({ title, name }: { title: string; name: string }) {
  return (
    <>
      {title} {title !== name && <code className={style.technical}>{name}</code>}
    </>
  );
}

/** When a change runs: what is taken away goes at the end of a day, what is given comes with one. */
function whenOf(change: ChangeView, place: Place | undefined): string {
  const due = change.due ?? '';
  const takes = change.kind === 'disable-account' || change.kind === 'revoke';
  const day = place && dayThere(due, place.zone, takes ? 'end' : 'begin');
  return day ? `${takes ? 'at the end of' : 'on'} ${onDay(day)}, ${place.title}` : `at ${at(due)}`;
}

function Attributes({ change }: { change: ChangeView }) {
  const words = useWords();
  return (
    <table className={style.attributes}>
      <caption className="unseen">Attributes of {change.subject}</caption>
      <tbody>
        {change.attributes.map((attribute) => (
          <tr key={attribute.name}>
            <th scope="row">
              <Titled title={words.held(change.target, attribute.name)} name={attribute.name} />
            </th>
            <td>
              {attribute.before.length > 0 && (
                <>
                  <del>{attribute.before.join(', ')}</del> →{' '}
                </>
              )}
              {attribute.after.length > 0 ? (
                <ins className={attribute.before.length === 0 ? style.fresh : undefined}>{attribute.after.join(', ')}</ins>
              ) : (
                'removed'
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
