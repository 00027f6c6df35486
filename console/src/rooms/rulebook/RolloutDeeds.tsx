import type { UseMutationResult } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type Rollout } from '../../api/client';
import { Button } from '../../parts/Button';
import { count as counted } from '../../parts/count';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Choice, Field } from '../../parts/Field';
import style from '../common/Rooms.module.css';

export const people = (n: number) => counted(n, 'person', 'people');

export const verdicts: ['approve' | 'decline', string][] = [
  ['approve', 'Approve'],
  ['decline', 'Decline'],
];

export type Act = UseMutationResult<Rollout, Error, Step>;

/** What can be done to a roll-out. */
export type Step =
  | { verb: 'decide'; verdict: 'approve' | 'decline'; department: string | null; digest: string; remark: string }
  | { verb: 'begin'; size: number; pause: string | null }
  | { verb: 'stop' | 'turn-back' | 'release'; reason: string };

export function perform(id: string, step: Step): Promise<Rollout> {
  const params = { path: { id } };
  switch (step.verb) {
    case 'decide':
      return ask(
        api.POST('/api/v1/rollouts/{id}/decide', {
          params,
          body: { verdict: step.verdict, department: step.department, digest: step.digest, remark: step.remark || null },
        }),
      );
    case 'begin':
      return ask(api.POST('/api/v1/rollouts/{id}/begin', { params, body: { size: step.size, pause: step.pause } }));
    case 'stop':
      return ask(api.POST('/api/v1/rollouts/{id}/stop', { params, body: { reason: step.reason } }));
    case 'turn-back':
      return ask(api.POST('/api/v1/rollouts/{id}/turn-back', { params, body: { reason: step.reason } }));
    case 'release':
      return ask(api.POST('/api/v1/rollouts/{id}/release', { params, body: { reason: step.reason } }));
  }
}

/** One edition on its way to the people: what it changes, who decided, which wave it is in. */
export function Moves({ rollout, act }: { rollout: Rollout; act: Act }) {
  const { rights, summary: s } = rollout;
  const nothing = !rights.decide && !rights.begin && !rights.stop && !rights.release && !rights.turnBack;
  return (
    <div className={style.actions}>
      {rights.release && <WithReason verb="release" word="Let it pass" ask="Why is it let pass?" act={act} main />}
      {rights.decide && rollout.digest && (
        <>
          <Decide
            verdict="approve"
            word={`Approve ${rollout.covers === s.people ? 'all' : ''} ${rollout.covers}`.replace('  ', ' ')}
            digest={rollout.digest}
            department={null}
            count={rollout.covers}
            act={act}
          />
          <Decide verdict="decline" word="Decline" digest={rollout.digest} department={null} count={rollout.covers} act={act} />
        </>
      )}
      {rights.begin && <Begin rollout={rollout} act={act} />}
      {rights.stop && <WithReason verb="stop" word="Stop" ask="Why is it stopped?" act={act} />}
      {rights.turnBack && <WithReason verb="turn-back" word="Turn the last wave back" ask="Why is it turned back?" act={act} />}
      {nothing && <span className={style.quiet}>Nothing in it is yours to do now.</span>}
    </div>
  );
}

function WithReason(props: { verb: 'stop' | 'turn-back' | 'release'; word: string; ask: string; act: Act; main?: boolean }) {
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState('');
  return (
    <>
      <Button kind={props.main ? 'main' : 'grave'} onPress={() => setOpen(true)}>
        {props.word}
      </Button>
      <Dialog title={`${props.word}?`} isOpen={open} close={() => setOpen(false)}>
        <Field label={props.ask} value={reason} onChange={setReason} required long autoFocus />
        <DialogActions>
          <Button onPress={() => setOpen(false)}>Back</Button>
          <Button
            kind={props.main ? 'main' : 'grave'}
            isDisabled={reason.trim().length === 0 || props.act.isPending}
            onPress={() => {
              props.act.mutate({ verb: props.verb, reason });
              setOpen(false);
            }}
          >
            {props.word}
          </Button>
        </DialogActions>
      </Dialog>
    </>
  );
}

export function Decide(props: {
  verdict: 'approve' | 'decline';
  word: string;
  digest: string;
  department: string | null;
  count: number;
  act: Act;
  small?: boolean;
}) {
  const [open, setOpen] = useState(false);
  const [remark, setRemark] = useState('');
  const approves = props.verdict === 'approve';
  const kind = approves ? 'main' : 'grave';
  const who = `${people(props.count)}${props.department ? ` of ${props.department}` : ''}`;
  return (
    <>
      <Button
        kind={props.small ? 'quiet' : kind}
        aria-label={props.small ? `${props.word} ${props.department}` : undefined}
        onPress={() => setOpen(true)}
      >
        {props.word}
      </Button>
      <Dialog title={`${approves ? 'Approve' : 'Decline'} ${who}?`} isOpen={open} close={() => setOpen(false)}>
        <p>
          {approves
            ? 'What was shown of them is what will run; whoever changes meanwhile is decided about on their own.'
            : 'They stay on the edition they are on, and have what they have.'}
        </p>
        <Field label={approves ? 'A word with it' : 'Why'} value={remark} onChange={setRemark} required={!approves} long autoFocus />
        <DialogActions>
          <Button onPress={() => setOpen(false)}>Back</Button>
          <Button
            kind={kind}
            isDisabled={(!approves && remark.trim().length === 0) || props.act.isPending}
            onPress={() => {
              props.act.mutate({ verb: 'decide', verdict: props.verdict, department: props.department, digest: props.digest, remark });
              setOpen(false);
            }}
          >
            {approves ? 'Approve' : 'Decline'} {who}
          </Button>
        </DialogActions>
      </Dialog>
    </>
  );
}

export const pauses: [string, string][] = [
  ['', 'until somebody goes on'],
  ['PT10M', '10 minutes'],
  ['PT1H', 'an hour'],
  ['PT4H', '4 hours'],
  ['P1D', 'a day'],
];

function Begin({ rollout, act }: { rollout: Rollout; act: Act }) {
  const [open, setOpen] = useState(false);
  const s = rollout.summary;
  const [size, setSize] = useState(String(rollout.waveSize ?? Math.max(1, Math.min(50, Math.ceil(s.approved / 4)))));
  const [pause, setPause] = useState(rollout.pause ?? '');
  const count = Number(size);
  const sound = Number.isInteger(count) && count >= 1 && count <= 10_000;
  const next = s.wave + 1;
  return (
    <>
      <Button kind="main" onPress={() => setOpen(true)}>
        Begin wave {next}
      </Button>
      <Dialog title={`Begin wave ${next}?`} isOpen={open} close={() => setOpen(false)}>
        <Field label="People in a wave" value={size} onChange={setSize} autoFocus />
        <Choice
          label="Pause after each wave"
          value={pause}
          options={pauses.some(([p]) => p === pause) ? pauses : [...pauses, [pause, pause]]}
          onChange={setPause}
        />
        <p className={style.quiet}>
          {s.approved} approved. {sound && s.approved > 0 && `${counted(Math.ceil(s.approved / count), 'wave')} in all. `}
          When something of a wave cannot go on, it stops by itself.
        </p>
        <DialogActions>
          <Button onPress={() => setOpen(false)}>Back</Button>
          <Button
            kind="main"
            isDisabled={!sound || act.isPending}
            onPress={() => {
              act.mutate({ verb: 'begin', size: count, pause: pause || null });
              setOpen(false);
            }}
          >
            Begin
          </Button>
        </DialogActions>
      </Dialog>
    </>
  );
}
