import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useNavigate } from '@tanstack/react-router';
import { useCallback, useMemo, useState } from 'react';
import { api, ask, type RequestSummary, type Schemas } from '../../api/client';
import { Button } from '../../parts/Button';
import { count } from '../../parts/count';
import { type Column, DataTable } from '../../parts/DataTable';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Field } from '../../parts/Field';
import { useKeys } from '../../parts/keys';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { StateMark } from '../../parts/StateMark';
import { ago, ahead, at } from '../../parts/when';
import style from '../common/Rooms.module.css';
import { together } from './joint';
import { aboutOf } from './requestColumns';

/** What waits for the caller. Several can be chosen and decided at once, after a look at what they bring together. */
export function InboxPage() {
  const navigate = useNavigate();
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [deed, setDeed] = useState<'approve' | 'release'>();
  const inbox = useQuery({
    queryKey: ['requests', 'inbox'],
    queryFn: () => ask(api.GET('/api/v1/inbox', { params: { query: { limit: 200 } } })),
  });
  const rows = useMemo(() => inbox.data?.items ?? [], [inbox.data]);
  const here = useMemo(() => new Set(rows.map((r) => r.id)), [rows]);
  const picked = rows.filter((r) => chosen.has(r.id));
  const toggle = useCallback(
    (id: string) =>
      setChosen((before) => {
        const after = new Set([...before].filter((b) => here.has(b)));
        // A file that is decided as a whole is chosen as one.
        const batch = rows.find((r) => r.id === id)?.batch;
        const together = batch ? rows.filter((r) => r.batch === batch && r.state === 'deciding').map((r) => r.id) : [id];
        const off = after.has(id);
        for (const one of together) {
          if (off) after.delete(one);
          else after.add(one);
        }
        return after;
      }),
    [here, rows],
  );
  const to = (state: string) => picked.filter((r) => r.state === state);
  const canApprove = to('deciding').length > 0;
  const canRelease = to('releasing').length > 0;
  useKeys([
    ...(canApprove ? [{ key: 'a', what: 'Approve what is chosen', run: () => setDeed('approve') }] : []),
    ...(canRelease ? [{ key: 'r', what: 'Release what is chosen', run: () => setDeed('release') }] : []),
    { key: 'Escape', what: 'Choose nothing', run: () => setChosen(new Set()) },
  ]);
  const columns = useMemo(() => columnsOf(chosen, toggle), [chosen, toggle]);
  const all = rows.filter((r) => r.state === 'deciding' || r.state === 'releasing');
  return (
    <>
      <header className={style.head}>
        <h1>Inbox</h1>
        <p>
          {rows.length === 0
            ? 'What waits for you.'
            : `${rows.length === 200 ? '200 or more requests wait' : count(rows.length, 'request waits', 'requests wait')} for you. `}
          {rows.length > 0 && 'Open one to see its whole effect, or choose several with x.'}
        </p>
      </header>
      {all.length > 1 && (
        <div className={style.bar} role="toolbar" aria-label="Several at once">
          <Button onPress={() => setChosen(picked.length === all.length ? new Set() : new Set(all.map((r) => r.id)))}>
            {picked.length === all.length ? 'Choose none' : `Choose all ${all.length}`}
          </Button>
          <span className={style.quiet}>{picked.length > 0 ? `${picked.length} chosen` : 'None chosen'}</span>
          {canApprove && (
            <Button kind="main" onPress={() => setDeed('approve')}>
              Approve {to('deciding').length}…<kbd>a</kbd>
            </Button>
          )}
          {canRelease && (
            <Button kind="main" onPress={() => setDeed('release')}>
              Release {to('releasing').length}…<kbd>r</kbd>
            </Button>
          )}
        </div>
      )}
      {inbox.isPending ? (
        <Loading what="The inbox" />
      ) : inbox.isError ? (
        <Failure error={inbox.error} again={() => void inbox.refetch()} />
      ) : (
        <DataTable
          label="Requests that wait for you"
          columns={columns}
          rows={rows}
          keyOf={(r) => r.id}
          open={(r) => void navigate({ to: '/requests/$id', params: { id: r.id } })}
          mark={(r) => toggle(r.id)}
          empty="Nothing waits for you. New requests appear here by themselves."
        />
      )}
      {deed && (
        <Joint
          deed={deed}
          requests={to(deed === 'approve' ? 'deciding' : 'releasing')}
          close={(done) => {
            setDeed(undefined);
            if (done) setChosen(new Set());
          }}
        />
      )}
    </>
  );
}

const columnsOf = (chosen: ReadonlySet<string>, toggle: (id: string) => void): Column<RequestSummary>[] => [
  {
    title: '✓',
    width: '2rem',
    cell: (r) =>
      r.state === 'deciding' || r.state === 'releasing' ? (
        <input type="checkbox" aria-label={`Choose ${aboutOf(r)}`} checked={chosen.has(r.id)} onChange={() => toggle(r.id)} />
      ) : null,
  },
  {
    title: 'Person',
    width: 'minmax(9rem, 1.2fr)',
    cell: (r) => (
      <Link to="/requests/$id" params={{ id: r.id }}>
        {aboutOf(r)}
      </Link>
    ),
  },
  {
    title: 'Kind',
    minor: true,
    width: '5rem',
    cell: (r) => (r.batch ? <span title="of a file that is decided as a whole">{r.kind} ▤</span> : r.kind),
  },
  { title: 'Effect', width: 'minmax(6rem, 3fr)', cell: (r) => <span title={r.effect ?? undefined}>{r.effect || r.cause}</span> },
  { title: 'Stage', minor: true, width: 'minmax(8rem, 1fr)', cell: (r) => (r.stage ? r.stage : <StateMark state={r.state} />) },
  {
    title: 'Due',
    minor: true,
    width: '5rem',
    cell: (r) => (r.late ? <b className={style.bad}>late</b> : r.due ? <span title={at(r.due)}>{ahead(r.due)}</span> : '–'),
  },
  { title: 'Since', minor: true, width: '5rem', cell: (r) => <span title={at(r.since)}>{ago(r.since)}</span> },
];

/** What many requests bring together, before one decision on all of them. */
function Joint({ deed, requests, close }: { deed: 'approve' | 'release'; requests: RequestSummary[]; close: (done: boolean) => void }) {
  const queries = useQueryClient();
  const [words, setWords] = useState('');
  const ids = requests.map((r) => r.id);
  const effect = useQuery({
    queryKey: ['joint', deed, ids],
    queryFn: () => ask(api.POST('/api/v1/requests/joint-effect', { body: { ids } })),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const act = useMutation({
    mutationFn: (joint: Schemas['JointEffect']) => {
      const bound = joint.items.filter((i) => i.mayApprove).map((i) => ({ id: i.id, planDigest: i.planDigest }));
      return deed === 'approve'
        ? ask(api.POST('/api/v1/requests/approve-many', { body: { requests: bound, remark: words || null } }))
        : ask(api.POST('/api/v1/requests/release-many', { body: { requests: bound, remark: null } }));
    },
    onSuccess: (answer) => {
      void queries.invalidateQueries({ queryKey: ['requests'] });
      if (answer.refused === 0) close(true);
    },
  });
  const joint = effect.data;
  const able = joint?.items.filter((i) => i.mayApprove).length ?? 0;
  const verb = deed === 'approve' ? 'Approve' : 'Release';
  return (
    <Dialog title={`${verb} ${requests.length} requests`} isOpen wide close={() => close(false)}>
      {effect.isPending ? (
        <Loading what="The joint effect" />
      ) : effect.isError ? (
        <Failure error={effect.error} />
      ) : (
        joint && (
          <form
            className={style.stack}
            onSubmit={(event) => {
              event.preventDefault();
              act.mutate(joint);
            }}
          >
            <p className={style.effectLine}>
              Together for {count(joint.people, 'person', 'people')}: {together(joint)}.
            </p>
            {joint.notes.map((note) => (
              <Notice key={note} title={note} />
            ))}
            <div className={style.two}>
              <table className={style.grants}>
                <thead>
                  <tr>
                    <th scope="col">Entitlement</th>
                    <th scope="col">Given</th>
                    <th scope="col">Taken</th>
                  </tr>
                </thead>
                <tbody>
                  {joint.byEntitlement.map((t) => (
                    <tr key={t.key}>
                      <td title={t.key}>
                        {t.title}
                        {t.privileged && <small className={style.quiet}> privileged</small>}
                      </td>
                      <td>{t.gained || '–'}</td>
                      <td>{t.lost || '–'}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
              <ul className={style.list}>
                {joint.items.slice(0, 40).map((i) => (
                  <li key={i.id}>
                    <span>
                      <b>{i.person}</b>, {i.kind} {i.number}
                    </span>
                    <span className={i.mayApprove ? style.quiet : style.bad}>{i.mayApprove ? i.effect : i.whyNot}</span>
                  </li>
                ))}
                {joint.items.length > 40 && <li>and {joint.items.length - 40} more</li>}
              </ul>
            </div>
            {deed === 'approve' && <Field label="A word with it (may stay empty)" value={words} onChange={setWords} />}
            {act.isError && <Failure error={act.error} />}
            {act.data && act.data.refused > 0 && (
              <Notice tone="bad" title={`${act.data.done} done, ${act.data.refused} not`}>
                <ul>
                  {act.data.items
                    .filter((i) => !i.done)
                    .map((i) => (
                      <li key={i.id}>
                        {joint.items.find((j) => j.id === i.id)?.person}: {i.problem}
                      </li>
                    ))}
                </ul>
              </Notice>
            )}
            <DialogActions>
              <Button onPress={() => close(act.isSuccess)}>{act.isSuccess ? 'Close' : 'Back'}</Button>
              {!act.isSuccess && (
                <Button kind="main" type="submit" isDisabled={act.isPending || able === 0} autoFocus>
                  {verb} {able}
                </Button>
              )}
            </DialogActions>
          </form>
        )
      )}
    </Dialog>
  );
}
