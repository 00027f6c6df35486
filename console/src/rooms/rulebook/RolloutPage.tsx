import { type UseMutationResult, useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useNavigate, useParams, useSearch } from '@tanstack/react-router';
import { type ReactNode, useState } from 'react';
import { api, ask, type Rollout, type Schemas } from '../../api/client';
import { Button } from '../../parts/Button';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Choice, Field, Filters, SearchField } from '../../parts/Field';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { StateMark } from '../../parts/StateMark';
import { agoText, at } from '../../parts/when';
import style from '../common/Rooms.module.css';
import { Who } from '../common/Who';
import { Bars, Effects, Figure } from '../service/Figures';
import { allOfIt, standing } from './Rollouts';
import page from './Rollouts.module.css';
import book from './Rulebook.module.css';

type Act = UseMutationResult<Rollout, Error, Step>;

/** What can be done to a roll-out. */
type Step =
  | { verb: 'decide'; verdict: 'approve' | 'decline'; department: string | null; digest: string; remark: string }
  | { verb: 'begin'; size: number; pause: string | null }
  | { verb: 'stop' | 'turn-back' | 'release'; reason: string };

function perform(id: string, step: Step): Promise<Rollout> {
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
export function RolloutPage() {
  const { id } = useParams({ from: '/shell/rollouts/$id' });
  const queries = useQueryClient();
  const one = useQuery({
    queryKey: ['rollouts', id],
    queryFn: () => ask(api.GET('/api/v1/rollouts/{id}', { params: { path: { id } } })),
  });
  const act: Act = useMutation({
    mutationFn: (step: Step) => perform(id, step),
    onSettled: () => void queries.invalidateQueries({ queryKey: ['rollouts'] }),
  });
  if (one.isPending) return <Loading what="The roll-out" />;
  if (one.isError) return <Failure error={one.error} again={() => void one.refetch()} />;
  const r = one.data;
  const s = r.summary;
  return (
    <>
      <header className={style.head}>
        <div className={style.title}>
          <h1>
            Roll-out {s.number} of edition {s.edition}
          </h1>
          <StateMark state={s.state} />
        </div>
        <p>
          Published by <Who user={s.author} /> {agoText(s.madeAt)}. It puts everybody who is on an earlier edition on edition {s.edition}.
        </p>
      </header>
      {act.isError && <Failure error={act.error} />}
      <div className={style.columns}>
        <div className={style.stack}>
          <section className={`${style.sheet} ${style.story}`} aria-label="What it is waiting for">
            <p className={style.now}>{standing(s)}</p>
            {r.nextAt && <p>The next wave begins {at(r.nextAt)}.</p>}
            {r.brake && (
              <Notice tone={r.releasedBy ? 'calm' : 'bad'} title={r.brake}>
                {r.releasedBy && (
                  <p>
                    <Who user={r.releasedBy} /> let it pass.
                  </p>
                )}
              </Notice>
            )}
            <Moves rollout={r} act={act} />
          </section>
          <section className={style.sheet} aria-labelledby="figures">
            <h2 id="figures">What it does</h2>
            <div className={book.figures}>
              <Figure count={s.people} word={s.people === 1 ? 'person differs' : 'people differ'} />
              <Figure count={s.losing} word="would have less" />
              <Figure count={s.same} word="unchanged" />
              {s.failing > 0 && <Figure count={s.failing} word="it cannot serve" />}
              <Figure count={s.undecided} word="undecided" />
              <Figure count={s.done} word="done" />
            </div>
          </section>
          {r.departments.length > 0 && <Departments rollout={r} act={act} />}
          {r.templates.length > 0 && (
            <div className={book.halves}>
              <Bars title="By template" tallies={r.templates} narrow />
              <Bars title="By entitlement" tallies={r.entitlements} narrow />
            </div>
          )}
          <People rollout={r} />
        </div>
        <aside className={style.stack}>
          <Waves rollout={r} />
          <Decisions rollout={r} />
        </aside>
      </div>
    </>
  );
}

/** What comes next, for who may do it. */
function Moves({ rollout, act }: { rollout: Rollout; act: Act }) {
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

function Decide(props: {
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
  const who = `${props.count} ${props.count === 1 ? 'person' : 'people'}${props.department ? ` of ${props.department}` : ''}`;
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

const pauses: [string, string][] = [
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
          {s.approved} approved.{' '}
          {sound && s.approved > 0 && `${Math.ceil(s.approved / count)} ${Math.ceil(s.approved / count) === 1 ? 'wave' : 'waves'} in all. `}
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

function Departments({ rollout, act }: { rollout: Rollout; act: Act }) {
  return (
    <section className={style.sheet} aria-labelledby="departments">
      <h2 id="departments">By department</h2>
      <table className={style.grants}>
        <thead>
          <tr>
            <th scope="col">Department</th>
            <th scope="col">Differ</th>
            <th scope="col">Less</th>
            <th scope="col">Stands</th>
            <th scope="col">
              <span className="unseen">Decide</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rollout.departments.map((d) => (
            <tr key={d.department}>
              <td>
                <Link to="/rollouts/$id" params={{ id: String(rollout.summary.number) }} search={{ ...allOfIt, department: d.department }}>
                  {d.department || 'none'}
                </Link>
              </td>
              <td>{d.people}</td>
              <td>{d.losing}</td>
              <td>{standsOf(d)}</td>
              <td className={page.decide}>
                {d.mayDecide && d.digest && (
                  <>
                    <Decide verdict="approve" word="Approve" digest={d.digest} department={d.department} count={d.covers} act={act} small />{' '}
                    <Decide verdict="decline" word="Decline" digest={d.digest} department={d.department} count={d.covers} act={act} small />
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

function standsOf(d: Schemas['RolloutDepartment']): string {
  const parts: [number, string][] = [
    [d.undecided, 'undecided'],
    [d.approved, 'approved'],
    [d.done, 'done'],
    [d.declined, 'declined'],
    [d.failing, 'not served'],
  ];
  return parts
    .filter(([count]) => count > 0)
    .map(([count, word]) => `${count} ${word}`)
    .join(', ');
}

function Waves({ rollout }: { rollout: Rollout }) {
  return (
    <section className={style.sheet} aria-labelledby="waves">
      <h2 id="waves">Waves</h2>
      {rollout.waves.length === 0 ? (
        <p className={style.quiet}>None has begun.</p>
      ) : (
        <ol className={page.waves}>
          {rollout.waves.map((w) => (
            <li key={w.wave}>
              <Link to="/rollouts/$id" params={{ id: String(rollout.summary.number) }} search={{ ...allOfIt, wave: w.wave }}>
                {w.wave === 0 ? 'Unchanged' : `Wave ${w.wave}`}
              </Link>
              <meter min={0} max={w.people} value={w.done} aria-label={`${w.done} of ${w.people} done`} />
              <small>{waveText(w)}</small>
            </li>
          ))}
        </ol>
      )}
      {rollout.waveSize && (
        <p className={style.quiet}>
          {rollout.waveSize} {rollout.waveSize === 1 ? 'person' : 'people'} each;{' '}
          {rollout.pause ? `a pause of ${pauses.find(([p]) => p === rollout.pause)?.[1] ?? rollout.pause}` : 'each waits to be begun'}.
        </p>
      )}
    </section>
  );
}

function waveText(w: Schemas['RolloutWave']): string {
  const parts = [`${w.done} of ${w.people} done`];
  if (w.underWay > 0) parts.push(`${w.underWay} under way`);
  if (w.turnedBack > 0) parts.push(`${w.turnedBack} turned back`);
  return parts.join(', ');
}

function Decisions({ rollout }: { rollout: Rollout }) {
  if (rollout.decisions.length === 0) return null;
  return (
    <section className={style.sheet} aria-labelledby="decisions">
      <h2 id="decisions">Decisions</h2>
      <ul className={style.list}>
        {rollout.decisions.map((d) => (
          <li key={d.at + d.actor}>
            <span>
              <Who user={d.actor} /> {d.verdict} {d.people} {d.people === 1 ? 'person' : 'people'}
              {d.department ? ` of ${d.department}` : ''}
            </span>
            <small className={style.quiet}>
              {agoText(d.at)}
              {d.remark ? `: “${d.remark}”` : ''}
            </small>
          </li>
        ))}
      </ul>
    </section>
  );
}

const stateWords: [string, string][] = [
  ['', 'any'],
  ['open', 'undecided'],
  ['approved', 'approved'],
  ['running', 'running'],
  ['own', 'decided on its own'],
  ['done', 'done'],
  ['moved', 'moved by another request'],
  ['declined', 'declined'],
  ['failing', 'cannot be worked out'],
  ['turned-back', 'turned back'],
];

function People({ rollout }: { rollout: Rollout }) {
  const number = String(rollout.summary.number);
  const search = useSearch({ from: '/shell/rollouts/$id' });
  const navigate = useNavigate();
  const [text, setText] = useState('');
  const to = (part: Partial<typeof search>) =>
    void navigate({ to: '/rollouts/$id', params: { id: number }, search: { ...search, ...part }, replace: true });
  const list = useInfiniteQuery({
    queryKey: ['rollouts', number, 'people', search, text],
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/rollouts/{id}/people', {
          params: { path: { id: number }, query: { ...search, text: text || undefined, after: pageParam, limit: 100 } },
        }),
      ),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: (previous) => previous,
  });
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <section className={style.sheet} aria-labelledby="people">
      <h2 id="people">Person by person</h2>
      <Filters>
        <SearchField label="Name or number" value={text} onChange={setText} />
        <Choice label="Stands" value={search.state ?? ''} options={stateWords} onChange={(state) => to({ state: state || undefined })} />
        <Choice
          label="Department"
          value={search.department ?? ''}
          options={[['', 'all'], ...rollout.departments.map((d): [string, string] => [d.department, d.department || 'none'])]}
          onChange={(department) => to({ department: department || undefined })}
        />
        <Choice
          label="Template"
          value={search.template ?? ''}
          options={[['', 'all'], ...rollout.templates.map((t): [string, string] => [t.name, t.name])]}
          onChange={(template) => to({ template: template || undefined })}
        />
        {search.wave !== undefined && (
          <Button kind="quiet" onPress={() => to({ wave: undefined })}>
            {search.wave === 0 ? 'Unchanged' : `Wave ${search.wave}`} ✕
          </Button>
        )}
      </Filters>
      {list.isPending && <Loading what="The list" />}
      {list.isError && <Failure error={list.error} again={() => void list.refetch()} />}
      <table className={style.grants}>
        <thead>
          <tr>
            <th scope="col">Person</th>
            <th scope="col">Department</th>
            <th scope="col">Stands</th>
            <th scope="col">What changes</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((p) => (
            <Person key={p.id} person={p} />
          ))}
        </tbody>
      </table>
      {!list.isPending && rows.length === 0 && <p className={style.quiet}>Nobody.</p>}
      {list.hasNextPage && (
        <Button kind="quiet" isDisabled={list.isFetchingNextPage} onPress={() => void list.fetchNextPage()}>
          Show more
        </Button>
      )}
    </section>
  );
}

function Person({ person: p }: { person: Schemas['RolloutPerson'] }) {
  const changes: ReactNode = p.problem ? (
    <span className={book.no}>
      <span>{p.problem}</span>
    </span>
  ) : p.effects.length === 0 ? (
    <span className={style.quiet}>nothing</span>
  ) : (
    <Effects of={p.effects} />
  );
  return (
    <tr>
      <td>
        <Link to="/people/$id" params={{ id: p.id }}>
          {p.name}
        </Link>{' '}
        <small className={style.quiet}>{p.number}</small>
      </td>
      <td>{p.department}</td>
      <td>
        {p.requestId ? (
          <Link to="/requests/$id" params={{ id: p.requestId }}>
            <StateMark state={p.state === 'open' ? 'deciding' : p.state} />
          </Link>
        ) : (
          <StateMark state={p.state === 'open' ? 'deciding' : p.state} />
        )}
      </td>
      <td>{changes}</td>
    </tr>
  );
}
