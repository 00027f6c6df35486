import type { ItemView, Schemas } from '../../api/client';
import { at } from '../../parts/when';
import style from '../common/Rooms.module.css';
import { useNamed } from '../common/Who';

type StageView = Schemas['StageView'];

const shapes: Record<string, string> = {
  passed: 'M2.5 8.5 6.5 12.5 13.5 3.5',
  skipped: 'M3 8h10',
  now: 'M8 3a5 5 0 1 0 .01 0M8 5.5V8l2 1.5',
  next: 'M8 3a5 5 0 1 0 .01 0',
};
const words: Record<string, string> = {
  passed: 'passed',
  skipped: 'not asked',
  now: 'decides now',
  next: 'comes later',
  open: 'not reached',
};

/** The stages of a request: who decided, who decides now, who comes, and why somebody is not asked. */
export function Stages({ stages, items, release }: { stages: StageView[]; items: ItemView[]; release?: string }) {
  const named = useNamed();
  const who = (ballot: Schemas['BallotView']) =>
    ballot.users.length > 0 ? `${ballot.who} (${named(ballot.users.join(', '))})` : ballot.who;
  const title = (key: string | null | undefined) => items.find((i) => i.key === key)?.title ?? key;
  return (
    <ol className={style.stages}>
      {stages.map((stage) => (
        <li key={stage.name} className={style.stage}>
          <svg className={style.stageShape} viewBox="0 0 16 16" width="16" height="16" aria-hidden="true">
            <path
              d={shapes[stage.state] ?? shapes.next}
              fill="none"
              stroke="currentColor"
              strokeWidth="2"
              strokeLinecap="round"
              strokeLinejoin="round"
            />
          </svg>
          <span>
            <b className={stage.state === 'now' ? style.stageNow : undefined}>{stage.title}</b>{' '}
            <small className={style.fine}>{words[stage.state] ?? stage.state}</small>
          </span>
          {stage.skipped ? (
            <small className={style.fine}>because {stage.skipped}</small>
          ) : stage.perItem ? (
            stage.ballots.map((ballot) => (
              <small className={style.fine} key={ballot.item ?? ''}>
                {title(ballot.item)}: {ballot.given.length >= ballot.needed ? `approved by ${named(ballot.given.join(', '))}` : who(ballot)}
              </small>
            ))
          ) : (
            <small className={style.fine}>
              {stage.ballots.map(who).join('; ')}
              {stage.needed > 1 && ` · ${stage.needed} must approve`}
              {(stage.ballots[0]?.given.length ?? 0) > 0 &&
                stage.state === 'now' &&
                ` · ${named(stage.ballots[0]?.given.join(', ') ?? '')} did`}
            </small>
          )}
          {stage.due && <small className={style.fine}>due {at(stage.due)}</small>}
        </li>
      ))}
      {release && (
        <li className={style.stage}>
          <svg className={style.stageShape} viewBox="0 0 16 16" width="16" height="16" aria-hidden="true">
            <path d="M4 14V2l9 3.5L4 9" fill="none" stroke="currentColor" strokeWidth="2" strokeLinejoin="round" />
          </svg>
          <b>{release}</b>
        </li>
      )}
    </ol>
  );
}
