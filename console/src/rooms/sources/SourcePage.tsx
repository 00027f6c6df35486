import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useParams } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask, type Schemas, type SourceDetail, type SourceTest } from '../../api/client';
import { Button } from '../../parts/Button';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { Pair } from '../../parts/Pair';
import { StateMark } from '../../parts/StateMark';
import { agoText, at } from '../../parts/when';
import { useMe } from '../../shell/Shell';
import style from '../common/Rooms.module.css';
import { allRequests } from '../requests/requestSearch';
import book from '../rulebook/Rulebook.module.css';
import { DryRun } from './DryRun';

export function SourcePage() {
  const { name } = useParams({ from: '/shell/sources/$name' });
  const source = useQuery({
    queryKey: ['sources', 'one', name],
    queryFn: () => ask(api.GET('/api/v1/sources/{name}', { params: { path: { name } } })),
  });
  if (source.isPending) return <Loading what="The source" />;
  if (source.isError) return <Failure error={source.error} again={() => void source.refetch()} />;
  return <Source source={source.data} />;
}

function Source({ source }: { source: SourceDetail }) {
  const name = source.summary.name;
  const queries = useQueryClient();
  const me = useMe();
  const engineer = me.data?.roles.includes('engineer') ?? false;
  const [preview, setPreview] = useState<SourceTest | null>(null);
  const [dry, setDry] = useState<Schemas['IntakeRun'] | null>(null);
  const path = { params: { path: { name } } };
  const again = () => queries.invalidateQueries({ queryKey: ['sources'] });
  const act = useMutation({
    mutationFn: async (what: 'test' | 'preview' | 'on' | 'off' | 'run' | 'dry') => {
      if (what === 'test') return (await ask(api.POST('/api/v1/sources/{name}/test', path))).message;
      if (what === 'preview') {
        setPreview(await ask(api.POST('/api/v1/sources/{name}/preview', { ...path, body: { limit: 10, files: null } })));
        return '';
      }
      if (what === 'on' || what === 'off') {
        const after = await ask(api.POST('/api/v1/sources/{name}/switch', { ...path, body: { on: what === 'on' } }));
        return after.summary.on ? 'It is switched on.' : 'It is switched off.';
      }
      const run = await ask(
        api.POST('/api/v1/sources/{name}/runs', { ...path, body: { mode: 'full', dryRun: what === 'dry', person: null } }),
      );
      setDry(what === 'dry' ? run : null);
      return what === 'dry' ? '' : run.message;
    },
    onSettled: () => void again(),
  });
  const pushes = source.summary.kind === 'scim' || source.summary.kind === 'post';
  return (
    <>
      <header className={style.head}>
        <div className={style.title}>
          <h1>{source.summary.title}</h1>
          <StateMark state={source.summary.state} />
        </div>
        <p>
          {source.summary.path} · key {source.key} · scope: {source.scope ?? 'everybody'} · brake: {source.brake ?? 'none'}
        </p>
      </header>
      <div className={style.stack}>
        <section className={`${style.sheet} ${style.story}`} aria-labelledby="next">
          <h2 id="next">{source.summary.problem ? 'It needs a hand' : 'What can be done'}</h2>
          {source.summary.problem && <p>{source.summary.problem}</p>}
          <p className={style.quiet}>
            {source.testedAt
              ? `Last test ${agoText(source.testedAt)}: ${source.testOutcome}`
              : 'It was never tested; a good test lets it be switched on.'}
            {source.testedAt && !source.testCounts && ' It must be tested again before it can be switched on.'}
          </p>
          {act.isError && <Failure error={act.error} />}
          {act.data && <Notice title={act.data} tone="good" />}
          <div className={style.actions}>
            {!pushes && (
              <Button kind="main" isDisabled={act.isPending} onPress={() => act.mutate('dry')}>
                Dry run
              </Button>
            )}
            {!pushes && (
              <Button isDisabled={act.isPending} onPress={() => act.mutate('run')}>
                Run now
              </Button>
            )}
            {engineer && (
              <Button isDisabled={act.isPending} onPress={() => act.mutate('test')}>
                Test
              </Button>
            )}
            {engineer && !pushes && (
              <Button isDisabled={act.isPending} onPress={() => act.mutate('preview')}>
                Preview the mapping
              </Button>
            )}
            {engineer && (
              <Button isDisabled={act.isPending} onPress={() => act.mutate(source.summary.on ? 'off' : 'on')}>
                {source.summary.on ? 'Switch off' : 'Switch on'}
              </Button>
            )}
          </div>
        </section>
        {source.summary.heldRun && <Held run={source.summary.heldRun} />}
        {dry && <DryRun run={dry} close={() => setDry(null)} />}
        {preview && <Preview test={preview} close={() => setPreview(null)} />}
        <div className={style.columns}>
          <div className={style.stack}>
            <Vanished name={name} count={source.summary.vanished} />
            <SetAside name={name} />
            <Runs name={name} />
          </div>
          <aside className={style.stack}>
            <section className={style.sheet} aria-labelledby="mapping">
              <h2 id="mapping">Mapping</h2>
              <dl className={style.facts}>
                {source.mapping.map((m) => (
                  <Pair key={m.name} name={m.name} value={<code>{m.value}</code>} />
                ))}
              </dl>
            </section>
            {source.writeBack.length > 0 && (
              <section className={style.sheet} aria-labelledby="back">
                <h2 id="back">Written back</h2>
                <dl className={style.facts}>
                  {source.writeBack.map((m) => (
                    <Pair key={m.name} name={m.name} value={<code>{m.value}</code>} />
                  ))}
                </dl>
              </section>
            )}
            <section className={style.sheet} aria-labelledby="records">
              <h2 id="records">Records</h2>
              <dl className={style.facts}>
                {Object.entries(source.records).map(([status, count]) => (
                  <Pair key={status} name={status} value={String(count)} />
                ))}
              </dl>
            </section>
          </aside>
        </div>
      </div>
    </>
  );
}

function Held({ run }: { run: string }) {
  const queries = useQueryClient();
  const [asked, setAsked] = useState<'pass' | 'drop' | null>(null);
  const held = useQuery({
    queryKey: ['sources', 'held', run],
    queryFn: () => ask(api.GET('/api/v1/held-runs/{run}', { params: { path: { run } } })),
  });
  const decide = useMutation({
    mutationFn: (what: 'pass' | 'drop') =>
      what === 'pass'
        ? ask(api.POST('/api/v1/held-runs/{run}/pass', { params: { path: { run } } }))
        : ask(api.POST('/api/v1/held-runs/{run}/drop', { params: { path: { run } } })),
    onSettled: () => {
      setAsked(null);
      void queries.invalidateQueries({ queryKey: ['sources'] });
    },
  });
  if (held.isPending) return <Loading what="The held run" />;
  if (held.isError) return <Failure error={held.error} />;
  return (
    <section className={`${style.sheet} ${style.story}`} aria-labelledby="held">
      <h2 id="held">A run waits under the brake</h2>
      <p>{held.data.why}</p>
      {decide.isError && <Failure error={decide.error} />}
      <div className={style.actions}>
        {held.data.mayDecide ? (
          <>
            <Button kind="main" onPress={() => setAsked('pass')}>
              Let it pass
            </Button>
            <Button kind="grave" onPress={() => setAsked('drop')}>
              Drop it
            </Button>
          </>
        ) : (
          <span className={style.quiet}>This decision belongs to {held.data.passes}.</span>
        )}
      </div>
      <table className={style.grants}>
        <thead>
          <tr>
            <th scope="col">Person</th>
            <th scope="col">Number</th>
            <th scope="col">What happened</th>
            <th scope="col">Request</th>
          </tr>
        </thead>
        <tbody>
          {held.data.requests.slice(0, 50).map((r) => (
            <tr key={r.number + r.what}>
              <td>
                <b>{r.person}</b>
              </td>
              <td>{r.number}</td>
              <td>{r.what}</td>
              <td>{r.kind}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {held.data.requests.length > 50 && <p className={style.quiet}>and {held.data.requests.length - 50} more</p>}
      <Dialog title={asked === 'pass' ? 'Let this run pass?' : 'Drop this run?'} isOpen={asked !== null} close={() => setAsked(null)}>
        <p>
          {asked === 'pass'
            ? `It is read anew. If it raises exactly these ${held.data.requests.length} requests it goes on; anything else is held again.`
            : 'Nothing is raised. The next run looks at the records again.'}
        </p>
        <DialogActions>
          <Button onPress={() => setAsked(null)}>Back</Button>
          <Button kind={asked === 'pass' ? 'main' : 'grave'} isDisabled={decide.isPending} onPress={() => asked && decide.mutate(asked)}>
            {asked === 'pass' ? 'Let it pass' : 'Drop it'}
          </Button>
        </DialogActions>
      </Dialog>
    </section>
  );
}

function Preview({ test, close }: { test: SourceTest; close: () => void }) {
  const names = [...new Set(test.rows.flatMap((r) => r.attributes.map((a) => a.name)))];
  return (
    <section className={style.sheet} aria-labelledby="preview">
      <div className={style.title}>
        <h2 id="preview">Preview</h2>
        <span className={style.quiet}>{test.message} Nothing was kept.</span>
        <Button kind="quiet" onPress={close}>
          Close
        </Button>
      </div>
      <section className={book.wide} aria-label="Preview of the mapping">
        <table className={style.grants}>
          <thead>
            <tr>
              <th scope="col">Line</th>
              {names.map((n) => (
                <th scope="col" key={n}>
                  {n}
                </th>
              ))}
              <th scope="col">Problem</th>
            </tr>
          </thead>
          <tbody>
            {test.rows.map((row) => (
              <tr key={row.line}>
                <td>{row.line}</td>
                {names.map((n) => (
                  <td key={n}>{row.attributes.find((a) => a.name === n)?.value}</td>
                ))}
                <td className={book.no}>
                  {row.outside
                    ? 'outside the scope'
                    : row.problem
                      ? `${row.problem.column} “${row.problem.value}”: ${row.problem.reason}`
                      : ''}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
    </section>
  );
}

function Vanished({ name, count }: { name: string; count: number }) {
  const queries = useQueryClient();
  const list = useQuery({
    meta: { what: 'Who is no more in the source' },
    queryKey: ['sources', 'vanished', name],
    queryFn: () => ask(api.GET('/api/v1/sources/{name}/vanished', { params: { path: { name } } })),
    enabled: count > 0,
  });
  const decide = useMutation({
    mutationFn: ({ key, verdict }: { key: string; verdict: string }) =>
      ask(api.POST('/api/v1/sources/{name}/vanished/{key}', { params: { path: { name, key } }, body: { verdict, lastDay: null } })),
    onSettled: () => void queries.invalidateQueries({ queryKey: ['sources'] }),
  });
  if (count === 0) return null;
  return (
    <section className={`${style.sheet} ${style.story}`} aria-labelledby="vanished">
      <h2 id="vanished">Vanished records</h2>
      <p className={style.quiet}>The last full delivery held them no more. Nobody leaves silently: say what became of each.</p>
      {decide.isError && <Failure error={decide.error} />}
      <ul className={style.list}>
        {list.data?.items.map((r) => {
          const fact = (n: string) => r.attributes.find((a) => a.name === n)?.value ?? '';
          return (
            <li key={r.key} className={book.decide}>
              <span>
                <b>
                  {fact('given')} {fact('family')}
                </b>{' '}
                {r.key}, {fact('title')}, {fact('department')}
              </span>
              <Button kind="grave" isDisabled={decide.isPending} onPress={() => decide.mutate({ key: r.key, verdict: 'leaves' })}>
                Leaves
              </Button>
              <Button isDisabled={decide.isPending} onPress={() => decide.mutate({ key: r.key, verdict: 'stays' })}>
                Stays
              </Button>
            </li>
          );
        })}
      </ul>
    </section>
  );
}

function SetAside({ name }: { name: string }) {
  const list = useQuery({
    meta: { what: 'The rows that were set aside' },
    queryKey: ['sources', 'set-aside', name],
    queryFn: () => ask(api.GET('/api/v1/sources/{name}/set-aside', { params: { path: { name } } })),
  });
  return (
    <section className={style.sheet} aria-labelledby="aside">
      <div className={style.title}>
        <h2 id="aside">Set aside</h2>
        {(list.data?.items.length ?? 0) > 0 && <a href={`/api/v1/sources/${encodeURIComponent(name)}/set-aside.csv`}>Download for HR</a>}
      </div>
      {list.isError && <Failure error={list.error} />}
      {list.data?.items.length === 0 ? (
        <p className={style.quiet}>Nothing. A mended record clears itself.</p>
      ) : (
        <table className={style.grants}>
          <thead>
            <tr>
              <th scope="col">Line</th>
              <th scope="col">Column</th>
              <th scope="col">Value</th>
              <th scope="col">Reason</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.slice(0, 100).map((a) => (
              <tr key={a.file + a.line + a.column + a.key}>
                <td>{a.line || a.key}</td>
                <td>{a.column}</td>
                <td>{a.value}</td>
                <td>{a.reason}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

function Runs({ name }: { name: string }) {
  const list = useQuery({
    meta: { what: 'The runs of this source' },
    queryKey: ['sources', 'runs', name],
    queryFn: () => ask(api.GET('/api/v1/sources/{name}/runs', { params: { path: { name } } })),
  });
  return (
    <section className={style.sheet} aria-labelledby="runs">
      <h2 id="runs">Runs</h2>
      {list.data?.items.length === 0 && <p className={style.quiet}>It has never run.</p>}
      <ul className={style.list}>
        {list.data?.items.slice(0, 20).map((r) => (
          <li key={r.id}>
            <span>
              <b>{at(r.startedAt)}</b> {r.mode} by {r.actor}: {r.outcome.replaceAll('-', ' ')}
            </span>
            <span className={style.quiet}>{r.message}</span>
          </li>
        ))}
      </ul>
      <p className={style.quiet}>
        What follows from a run is under{' '}
        <Link to="/requests" search={allRequests}>
          Requests
        </Link>
        .
      </p>
    </section>
  );
}
