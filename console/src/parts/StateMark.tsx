import style from './StateMark.module.css';

const words: Record<string, string> = {
  planning: 'Being planned',
  choosing: 'Choice needed',
  deciding: 'To decide',
  releasing: 'To release',
  fulfilling: 'Running',
  completed: 'Completed',
  partly: 'Done in part',
  needless: 'Nothing was needed',
  declined: 'Declined',
  asked: 'Question asked',
  withdrawn: 'Taken back',
  lapsed: 'No longer wanted',
  open: 'Open',
  impossible: 'Not possible',
  pending: 'Waiting',
  done: 'Done',
  dropped: 'Dropped',
  stopped: 'Stopped',
  on: 'Switched on',
  off: 'Switched off',
  held: 'Under the brake',
  failing: 'Failing',
  running: 'Running',
  pausing: 'Pausing',
  'turning-back': 'Being turned back',
  turning: 'Being turned back',
  'turned-back': 'Turned back',
  superseded: 'Given way',
  approved: 'Approved',
  own: 'Decided on its own',
  moved: 'Moved by another request',
  works: 'Works',
  away: 'No answer',
  paused: 'Paused',
  maintenance: 'Worked on',
  unseen: 'Not seen yet',
};

const shapes: Record<string, string> = {
  planning: 'M3 12 12 3M3 8l5-5M8 13l5-5',
  choosing: 'M8 14V9M8 9 3 3M8 9l5-6',
  deciding: 'M8 2v7M8 12.5v1',
  releasing: 'M4 14V2l9 3.5L4 9',
  fulfilling: 'M2 8h11M9 4l4 4-4 4',
  completed: 'M2.5 8.5 6.5 12.5 13.5 3.5',
  done: 'M2.5 8.5 6.5 12.5 13.5 3.5',
  partly: 'M2.5 8.5 6.5 12.5 9 9M11 6h2.5',
  needless: 'M3 6h10M3 10.5h10',
  declined: 'M3.5 3.5l9 9M12.5 3.5l-9 9',
  asked: 'M5 5.5a3 3 0 1 1 4.2 2.8C8.3 8.8 8 9.3 8 10.5M8 13.2v.3',
  withdrawn: 'M13 12V8a4 4 0 0 0-4-4H3M6 1 3 4l3 3',
  lapsed: 'M3 8h3M10 8h3M8 3v3M8 10v3',
  open: 'M3 3h10v10H3z',
  impossible: 'M3.5 3.5l9 9M12.5 3.5l-9 9',
  stopped: 'M3.5 3.5h9v9h-9z',
  dropped: 'M3 8h10',
  on: 'M8 2v6M4.2 4.5a5.4 5.4 0 1 0 7.6 0',
  off: 'M3 8h10',
  held: 'M4.5 3v10M11.5 3v10',
  failing: 'M3.5 3.5l9 9M12.5 3.5l-9 9',
  pending: 'M3.5 8h.5M8 8h.5M12.5 8h.5',
  running: 'M2 8h11M9 4l4 4-4 4',
  pausing: 'M4.5 3v10M11.5 3v10',
  'turning-back': 'M13 12V8a4 4 0 0 0-4-4H3M6 1 3 4l3 3',
  turning: 'M13 12V8a4 4 0 0 0-4-4H3M6 1 3 4l3 3',
  'turned-back': 'M13 12V8a4 4 0 0 0-4-4H3M6 1 3 4l3 3',
  superseded: 'M3 8h3M10 8h3M8 3v3M8 10v3',
  approved: 'M2.5 8.5 6.5 12.5 13.5 3.5',
  own: 'M8 14V9M8 9 3 3M8 9l5-6',
  moved: 'M2.5 8.5 6.5 12.5 13.5 3.5',
  works: 'M2.5 8.5 6.5 12.5 13.5 3.5',
  away: 'M3.5 3.5l9 9M12.5 3.5l-9 9',
  paused: 'M4.5 3v10M11.5 3v10',
  maintenance: 'M3 13l6-6M9 7a3 3 0 1 1 4-4l-2 2',
  unseen: 'M5 5.5a3 3 0 1 1 4.2 2.8C8.3 8.8 8 9.3 8 10.5M8 13.2v.3',
};

const tones: Record<string, string> = {
  completed: 'good',
  done: 'good',
  partly: 'warm',
  declined: 'bad',
  stopped: 'bad',
  asked: 'warm',
  open: 'warm',
  impossible: 'bad',
  deciding: 'warm',
  choosing: 'warm',
  releasing: 'warm',
  fulfilling: 'sea',
  planning: 'sea',
  on: 'good',
  held: 'warm',
  failing: 'bad',
  running: 'sea',
  pausing: 'warm',
  'turning-back': 'sea',
  turning: 'sea',
  approved: 'good',
  own: 'warm',
  moved: 'good',
  works: 'good',
  away: 'bad',
  paused: 'warm',
  maintenance: 'warm',
};

/** What people read of a state. */
export const stateWord = (state: string) => words[state] ?? state;

/** What marks a request: how it ended, once it is over, else where it stands. */
export const ended = (request: { state: string; outcome?: string | null }) =>
  (request.state === 'completed' && request.outcome) || request.state;

/** A state as a shape and a word; colour only repeats it. */
export function StateMark({ state, title }: { state: string; title?: string }) {
  return (
    <span className={`${style.mark} ${style[tones[state] ?? 'calm'] ?? ''}`} title={title}>
      <svg viewBox="0 0 16 16" width="13" height="13" aria-hidden="true">
        <path
          d={shapes[state] ?? shapes.pending}
          fill="none"
          stroke="currentColor"
          strokeWidth="2.4"
          strokeLinecap="round"
          strokeLinejoin="round"
        />
      </svg>
      {stateWord(state)}
    </span>
  );
}
