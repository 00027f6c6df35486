import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask, Refusal, type RequestDetail } from '../../api/client';
import { Button } from '../../parts/Button';
import { count } from '../../parts/count';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Choice, Field } from '../../parts/Field';
import { useKeys } from '../../parts/keys';
import { Failure } from '../../parts/Notice';
import style from '../common/Rooms.module.css';
import { useNamed } from '../common/Who';
import { useCatalogue, useWords } from '../common/words';

type Deed =
  | 'approve'
  | 'decline'
  | 'ask'
  | 'answer'
  | 'comment'
  | 'change'
  | 'release'
  | 'hold'
  | 'resume'
  | 'return'
  | 'withdraw'
  | 'undo'
  | 'retry'
  | 'leaveOut'
  | 'setRight';

const names: Record<Deed, string> = {
  approve: 'Approve',
  decline: 'Decline',
  ask: 'Ask back',
  answer: 'Answer',
  comment: 'Comment',
  change: 'Change',
  release: 'Release',
  hold: 'Hold',
  resume: 'Let it go on',
  return: 'Send back',
  withdraw: 'Take back',
  undo: 'Undo',
  retry: 'Try again now',
  leaveOut: 'Leave out what failed',
  setRight: 'Change and try again',
};
const keys: Partial<Record<Deed, string>> = {
  approve: 'a',
  decline: 'd',
  ask: 'q',
  answer: 'w',
  comment: 'c',
  change: 'e',
  release: 'r',
  hold: 'h',
};
const needsWords = new Set<Deed>(['decline', 'ask', 'answer', 'comment', 'hold', 'return', 'leaveOut', 'setRight', 'undo']);
/** What the words that go with it are called, where they are no reason. */
const labels: Partial<Record<Deed, string>> = { ask: 'Question', answer: 'Answer', comment: 'Comment' };
const grave = new Set<Deed>(['decline', 'withdraw', 'undo', 'return', 'leaveOut']);

/** What stands in the place of a value that the caller may not read. */
const covered = 'not shown to you';

/** What the caller may do with a request now, by button and by key; each is confirmed with what it means. */
export function Deeds({
  request,
  without,
  setWithout,
}: {
  request: RequestDetail;
  without: ReadonlySet<string>;
  setWithout: (keys: ReadonlySet<string>) => void;
}) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [asked, setAsked] = useState<Deed>();
  const [words, setWords] = useState('');
  const [fields, setFields] = useState<Record<string, string>>({});
  const { rights, summary } = request;
  const may: Record<Deed, boolean> = {
    approve: rights.approve,
    decline: rights.decline,
    ask: rights.ask ?? false,
    answer: rights.answer ?? false,
    change: (rights.change?.length ?? 0) > 0,
    release: rights.release,
    hold: rights.hold ?? false,
    resume: rights.resume ?? false,
    return: rights.return ?? false,
    withdraw: rights.withdraw ?? false,
    undo: rights.undo,
    retry: rights.retry,
    leaveOut: rights.leaveOut,
    setRight: rights.leaveOut && summary.personNumber !== '',
    comment: !summary.completedAt,
  };
  const path = { params: { path: { id: summary.id } } };
  // What HR says today stands beside each field that may be changed.
  const person = useQuery({
    meta: { what: 'What HR says of the person' },
    queryKey: ['people', summary.personNumber],
    queryFn: () => ask(api.GET('/api/v1/people/{id}', { params: { path: { id: summary.personNumber } } })),
    enabled: (asked === 'change' || asked === 'setRight') && summary.personNumber !== '',
    retry: false,
  });
  const now = (field: string) => person.data?.record.find((a) => a.name === field)?.value;
  const planDigest = request.planDigest ?? '';
  const act = useMutation({
    mutationFn: (deed: Deed): Promise<RequestDetail> => {
      const text = { text: words };
      const reason = { reason: words || null };
      switch (deed) {
        case 'approve':
          return ask(
            api.POST('/api/v1/requests/{id}/approve', {
              ...path,
              body: { planDigest, remark: words || null, items: null, without: without.size > 0 ? [...without] : null },
            }),
          );
        case 'decline':
          return ask(api.POST('/api/v1/requests/{id}/decline', { ...path, body: { reason: words, items: null } }));
        case 'ask':
          return ask(api.POST('/api/v1/requests/{id}/ask', { ...path, body: text }));
        case 'answer':
          return ask(api.POST('/api/v1/requests/{id}/answer', { ...path, body: text }));
        case 'comment':
          return ask(api.POST('/api/v1/requests/{id}/comment', { ...path, body: text }));
        case 'release':
          return ask(api.POST('/api/v1/requests/{id}/release', { ...path, body: { planDigest } }));
        case 'hold':
          return ask(api.POST('/api/v1/requests/{id}/hold', { ...path, body: reason }));
        case 'resume':
          return ask(api.POST('/api/v1/requests/{id}/resume', { ...path, body: reason }));
        case 'return':
          return ask(api.POST('/api/v1/requests/{id}/return', { ...path, body: reason }));
        case 'withdraw':
          return ask(api.POST('/api/v1/requests/{id}/withdraw', { ...path, body: reason }));
        case 'undo':
          return ask(api.POST('/api/v1/requests/{id}/undo', { ...path, body: reason }));
        case 'change':
          return ask(api.POST('/api/v1/requests/{id}/change', { ...path, body: changeOf(request, fields) }));
        case 'leaveOut':
          return ask(api.POST('/api/v1/requests/{id}/leave-out', { ...path, body: { reason: words, step: null, record: null } }));
        case 'setRight':
          return ask(
            api.POST('/api/v1/requests/{id}/leave-out', {
              ...path,
              body: { reason: words, step: null, record: { [fields.name ?? '']: fields.value ?? '' } },
            }),
          );
        default:
          return ask(api.POST('/api/v1/requests/{id}/retry', path));
      }
    },
    onSuccess: (after) => {
      queries.setQueryData(['requests', 'one', summary.id], after);
      void queries.invalidateQueries({ queryKey: ['requests'] });
      setAsked(undefined);
      setWords('');
      setWithout(new Set());
    },
    onError: (error) => {
      if (error instanceof Refusal && error.status === 409) void queries.invalidateQueries({ queryKey: ['requests'] });
    },
  });
  const begin = (deed: Deed) => {
    act.reset();
    setFields(deed === 'setRight' ? {} : Object.fromEntries((rights.change ?? []).map((f) => [f, shownOf(request, f)])));
    setAsked(deed);
  };
  useKeys(
    (Object.entries(keys) as [Deed, string][])
      .filter(([deed]) => may[deed])
      .map(([deed, key]) => ({ key, what: names[deed], run: () => begin(deed) })),
  );

  const changes = request.plan.filter((c) => c.kind !== 'verify').length;
  const named = useNamed();
  const titles = useWords();
  const behalf = rights.onBehalf ? ` You decide for ${named(rights.onBehalf)}.` : '';
  const declined = (rights.items?.length ?? 0) > 0 ? 'The items that are yours are declined.' : 'Nothing will be changed.';
  const runs = summary.state === 'fulfilling';
  const ran = request.steps.filter((s) => s.state === 'done' && s.kind !== 'verify').length;
  const failing = request.steps.filter((s) => s.state === 'stopped' || (s.state === 'pending' && s.attempts > 0)).length;
  const failed = count(failing, 'step that did not succeed is', 'steps that did not succeed are');
  const stays =
    ran > 0 ? `${count(ran, 'step is done and stays', 'steps are done and stay')} until it is set right.` : 'Nothing was done yet.';
  const meaning: Record<Deed, string> = {
    approve:
      without.size > 0
        ? `You approve the plan without ${count(without.size, 'item')} that you took out, and it is made anew.${behalf}`
        : `You approve exactly the plan you see: ${count(changes, 'change')}. If it becomes another, it comes back to you.${behalf}`,
    decline: `${declined} ${named(summary.requester)} is told why.${behalf}`,
    ask: `${named(summary.requester)} is asked, and the clock stands still until the answer.`,
    answer: 'The decision goes on where it stood.',
    comment: 'Everybody who sees the request can read it.',
    change: 'The plan is made anew at once; approvals that it does not touch stay.',
    release: `${count(changes, 'change is', 'changes are')} carried out now, or at the time each is due.`,
    hold: 'It stays approved and is not released until it may go on.',
    resume: 'It can be released again.',
    return: 'All approvals are asked for again.',
    withdraw: runs
      ? `${stays} What has not run is not carried out, and what was approved with it holds no more.`
      : 'Nothing will be changed.',
    undo: runs
      ? 'It stops, and all it did is taken away in reverse, at once: accounts are disabled first. ' +
        'That holds, whatever HR says of this employment, until people decide on another last day.'
      : 'A leaver is raised that takes away all it did, in reverse; it is decided like any other. ' +
        'That holds, whatever HR says of this employment, until people decide on another last day.',
    retry: 'What stopped or waits is tried again at once.',
    leaveOut:
      `${failed} not carried out, nor what cannot be done without; the request ` +
      'goes on. The rules still want it: the next request about this person brings it again.',
    setRight:
      `${failed} asked for anew with another value, in a request of its own: ` +
      'it is decided like any other, and its plan brings all that is still missing.',
  };
  const main = (['approve', 'release', 'answer', 'resume'] as Deed[]).filter((d) => may[d]);
  const others = (
    ['decline', 'ask', 'change', 'hold', 'return', 'retry', 'setRight', 'leaveOut', 'comment', 'withdraw', 'undo'] as Deed[]
  ).filter((d) => may[d]);
  return (
    <>
      <div className={style.actions}>
        {[...main, ...others].map((deed) => (
          <Button
            key={deed}
            kind={
              main.includes(deed)
                ? 'main'
                : deed === 'decline'
                  ? 'grave'
                  : deed === 'comment' || deed === 'withdraw' || deed === 'undo'
                    ? 'quiet'
                    : 'plain'
            }
            onPress={() => begin(deed)}
          >
            {deed === 'approve' && without.size > 0 ? `Approve without ${without.size}` : names[deed]}
            {keys[deed] && <kbd>{keys[deed]}</kbd>}
          </Button>
        ))}
        {summary.source === 'hand' && (
          <Button
            kind="quiet"
            onPress={() => void navigate({ to: '/requests/new', search: { kind: undefined, person: undefined, copy: summary.id } })}
          >
            Copy
          </Button>
        )}
      </div>
      {rights.whyNot && <p className={style.quiet}>{rights.whyNot}</p>}
      {asked && (
        <Dialog title={`${names[asked]}: ${summary.kind} ${summary.person}`} isOpen close={() => setAsked(undefined)}>
          <form
            onSubmit={(event) => {
              event.preventDefault();
              act.mutate(asked);
            }}
            className={style.stack}
          >
            <p>{meaning[asked]}</p>
            {asked === 'change' &&
              Object.keys(fields).map((field) =>
                field === 'templates' ? (
                  <TemplateChoice
                    key={field}
                    value={fields[field] ?? ''}
                    onChange={(value) => setFields((f) => ({ ...f, [field]: value }))}
                  />
                ) : (
                  <Field
                    key={field}
                    label={now(field) ? `${field} (now ${now(field)})` : field}
                    value={fields[field] ?? ''}
                    onChange={(value) => setFields((f) => ({ ...f, [field]: value }))}
                  />
                ),
              )}
            {asked === 'setRight' && (
              <>
                <Choice
                  label="What is wrong"
                  value={fields.name ?? ''}
                  onChange={(name) => setFields({ name, value: now(name) === covered ? '' : (now(name) ?? '') })}
                  options={[
                    ['', person.isPending ? 'is being read' : 'choose'],
                    ...(person.data?.record ?? [])
                      .filter((a) => a.name !== 'person' && a.name !== 'number')
                      .map((a): [string, string] => [a.name, `${titles.attribute(a.name)}: ${a.value || 'nothing'}`]),
                  ]}
                />
                {fields.name && (
                  <Field label="What it should be" value={fields.value ?? ''} onChange={(value) => setFields((f) => ({ ...f, value }))} />
                )}
              </>
            )}
            {asked !== 'change' && asked !== 'release' && asked !== 'resume' && asked !== 'retry' && (
              <Field
                label={needsWords.has(asked) ? (labels[asked] ?? 'Reason') : 'A word with it (may stay empty)'}
                value={words}
                onChange={setWords}
                required={needsWords.has(asked)}
                long
                autoFocus={needsWords.has(asked) && asked !== 'setRight'}
              />
            )}
            {act.isError && <Failure error={act.error} />}
            <DialogActions>
              <Button onPress={() => setAsked(undefined)}>Back</Button>
              <Button
                kind={grave.has(asked) ? 'grave' : 'main'}
                type="submit"
                isDisabled={act.isPending || (asked === 'setRight' && !fields.name)}
                autoFocus={!needsWords.has(asked)}
              >
                {names[asked]}
              </Button>
            </DialogActions>
          </form>
        </Dialog>
      )}
    </>
  );
}

/** The present value of a field that may be changed. */
function shownOf(request: RequestDetail, field: string): string {
  if (field === 'until') return (request.wish.grants[0]?.until ?? '').slice(0, 10);
  if (field === 'templates') return request.wish.templates.join(' ');
  return request.wish.changes.find((c) => c.name === field)?.value ?? '';
}

/** The templates on request that the request should bring. */
function TemplateChoice({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  const catalogue = useCatalogue();
  const chosen = value.split(' ').filter(Boolean);
  return (
    <fieldset className={style.stack}>
      <legend>Templates on request</legend>
      {catalogue.data?.templates.map((t) => (
        <label key={t.name}>
          <input
            type="checkbox"
            checked={chosen.includes(t.name)}
            onChange={(e) => onChange((e.target.checked ? [...chosen, t.name] : chosen.filter((c) => c !== t.name)).join(' '))}
          />{' '}
          {t.title}
        </label>
      ))}
    </fieldset>
  );
}

function changeOf(request: RequestDetail, fields: Record<string, string>) {
  const { until, templates, ...record } = fields;
  const changed = Object.fromEntries(Object.entries(record).filter(([name, value]) => value !== shownOf(request, name)));
  return {
    planDigest: request.planDigest ?? '',
    record: Object.keys(changed).length > 0 ? changed : null,
    grants:
      until !== undefined && until !== shownOf(request, 'until')
        ? request.wish.grants.map((g) => ({ entitlement: g.entitlement, from: g.from ?? null, until: until || null }))
        : null,
    lastDay: null,
    urgent: null,
    reason: null,
    templates: templates !== undefined && templates !== shownOf(request, 'templates') ? templates.split(' ').filter(Boolean) : null,
  };
}
