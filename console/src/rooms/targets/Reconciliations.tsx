import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask, type Schemas } from '../../api/client';
import { Button } from '../../parts/Button';
import { count } from '../../parts/count';
import { Failure, Notice } from '../../parts/Notice';
import { at } from '../../parts/when';
import style from '../common/Rooms.module.css';
import own from './Targets.module.css';

/** Reading the target whole: what was found by class, and the entries of each. */
export function Reconciliations({ of }: { of: Schemas['TargetSummary'] }) {
  const queries = useQueryClient();
  const path = { params: { path: { name: of.name } } };
  const list = useQuery({
    meta: { what: 'What was found when the target was read whole' },
    queryKey: ['targets', 'reconciliations', of.name],
    queryFn: () => ask(api.GET('/api/v1/targets/{name}/reconciliations', path)),
  });
  const [chosen, setChosen] = useState<string>();
  const run = useMutation({
    mutationFn: (how: { dryRun: boolean; changes: boolean }) => ask(api.POST('/api/v1/targets/{name}/reconcile', { ...path, body: how })),
    onSuccess: (made) => {
      setChosen(made.id);
      return queries.invalidateQueries({ queryKey: ['targets'] });
    },
  });
  const all = list.data?.items ?? [];
  const one = all.find((r) => r.id === chosen) ?? all[0];
  const looked = one?.dryRun ? '; it was only looked, and nothing follows from it' : '';
  const read = one && `${count(one.entries, 'entry', 'entries')}${one.changes ? ' that had changed' : ''}`;
  return (
    <section className={style.sheet} aria-labelledby="reconciled">
      <h2 id="reconciled">Held against what was decided</h2>
      <p className={style.quiet}>
        {one ? `${read} were read ${at(one.at)} in ${(one.milliseconds / 1000).toFixed(1)} s${looked}.` : 'It was never read whole.'}
      </p>
      {run.isError && <Failure error={run.error} />}
      {run.isPending && <Notice title="It is being read; a large target takes a while." />}
      {of.mayOperate && (
        <div className={style.actions}>
          <Button isDisabled={run.isPending} onPress={() => run.mutate({ dryRun: false, changes: false })}>
            Read it whole
          </Button>
          {of.tellsChanges && (
            <Button kind="quiet" isDisabled={run.isPending} onPress={() => run.mutate({ dryRun: false, changes: true })}>
              Read what changed
            </Button>
          )}
          <Button kind="quiet" isDisabled={run.isPending} onPress={() => run.mutate({ dryRun: true, changes: false })}>
            Only look
          </Button>
        </div>
      )}
      {one && <Found of={one} key={one.id} />}
      {all.length > 1 && (
        <details className={own.earlier}>
          <summary>Earlier ones</summary>
          <ul className={style.list}>
            {all.map((r) => (
              <li key={r.id}>
                <button type="button" className={own.link} onClick={() => setChosen(r.id)} aria-current={r.id === one?.id}>
                  {at(r.at)}
                </button>
                <span className={style.fine}>
                  {count(r.entries, 'entry', 'entries')}
                  {r.changes ? ' that had changed' : ''}, {r.classes.map((c) => `${c.count} ${c.name}`).join(', ')}
                </span>
              </li>
            ))}
          </ul>
        </details>
      )}
    </section>
  );
}

const sound = (name: string) => name === 'as-decided' || name === 'known';

function Found({ of }: { of: Schemas['Reconciliation'] }) {
  const [kind, setKind] = useState<string>();
  const items = useQuery({
    meta: { what: 'The entries that were found' },
    queryKey: ['targets', 'reconciliation', of.id, kind],
    queryFn: () =>
      ask(
        api.GET('/api/v1/targets/{name}/reconciliations/{id}', {
          params: { path: { name: of.target, id: of.id }, query: { kind } },
        }),
      ),
    enabled: of.classes.some((c) => !sound(c.name)),
  });
  const found = items.data?.items ?? [];
  return (
    <>
      <ul className={own.classes} aria-label="Classes">
        {of.classes.map((c) => (
          <li key={c.name}>
            <button
              type="button"
              disabled={sound(c.name)}
              aria-pressed={kind === c.name}
              onClick={() => setKind(kind === c.name ? undefined : c.name)}
            >
              <b>{c.count.toLocaleString('en')}</b>
              <span>{c.meaning}</span>
            </button>
          </li>
        ))}
      </ul>
      {items.isError && <Failure error={items.error} />}
      {found.length > 0 && (
        <table className={style.grants}>
          <thead>
            <tr>
              <th scope="col">Account</th>
              <th scope="col">Person</th>
              <th scope="col">Found</th>
            </tr>
          </thead>
          <tbody>
            {found.slice(0, 200).map((i) => (
              <tr key={i.location + i.class}>
                <td>
                  <b>{i.account}</b>
                </td>
                <td>
                  {i.personId ? (
                    <Link to="/people/$id" params={{ id: i.personId }}>
                      {i.person ?? 'somebody who is forgotten'}
                    </Link>
                  ) : (
                    <span className={style.quiet}>nobody</span>
                  )}
                </td>
                <td>{i.text}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {found.length > 200 && <p className={style.quiet}>The first 200 are shown; the client lists more.</p>}
    </>
  );
}
