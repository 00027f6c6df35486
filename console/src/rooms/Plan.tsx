import type { ChangeView, StepView } from '../api/client';
import { StateMark } from '../parts/StateMark';
import { at } from '../parts/when';
import style from './Rooms.module.css';

/** The whole effect in one line: what is made, changed, given and taken, and when it ends. */
export function summaryOf(changes: ChangeView[]): string {
  const count = (kind: string) => changes.filter((c) => c.kind === kind && !c.later).length;
  const parts = [
    [count('create-account'), 'new account'],
    [count('adopt-account'), 'existing account taken over'],
    [count('change-account'), 'account changed'],
    [count('disable-account'), 'account disabled'],
    [count('grant'), 'entitlement given'],
    [count('revoke'), 'entitlement taken back'],
  ] as [number, string][];
  const said = parts
    .filter(([n]) => n > 0)
    .map(([n, what]) => `${n} ${n === 1 ? what : what.replace(/^(new account|existing account|account|entitlement)/, '$1s')}`)
    .join(', ');
  const later = changes.find((c) => c.later && c.due);
  return `${said || 'Nothing is given or taken'}${later?.due ? `; ends ${at(later.due)}` : ', with no end'}.`;
}

/** The plan, before → after with the reason of each change; and how far each has come. */
export function Plan({ changes, steps }: { changes: ChangeView[]; steps: StepView[] }) {
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
                {change.due && <span className={style.later}> at {at(change.due)}</span>}
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

function Attributes({ change }: { change: ChangeView }) {
  return (
    <table className={style.attributes}>
      <caption className="unseen">Attributes of {change.subject}</caption>
      <tbody>
        {change.attributes.map((attribute) => (
          <tr key={attribute.name}>
            <th scope="row">{attribute.name}</th>
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
