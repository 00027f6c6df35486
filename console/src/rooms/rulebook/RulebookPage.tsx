import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useSearch } from '@tanstack/react-router';
import { lazy, Suspense, useMemo, useState } from 'react';
import { api, ask, type RulebookFileBody } from '../../api/client';
import { Button } from '../../parts/Button';
import { count } from '../../parts/count';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Field } from '../../parts/Field';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { agoText } from '../../parts/when';
import { knownOf } from '../../parts/yaml/known';
import style from '../common/Rooms.module.css';
import { DiffView } from './DiffView';
import { isChanged, keepDraft, useDraft } from './draft';
import { Proposals } from './Proposals';
import { RehearsalView } from './RehearsalView';
import { allOfIt, Rollouts } from './Rollouts';
import book from './Rulebook.module.css';

// The editor is half of the console's weight, and only engineers open it.
const YamlEditor = lazy(() => import('../../parts/yaml/YamlEditor').then((m) => ({ default: m.YamlEditor })));

const folders: [string, string][] = [
  ['', 'Rulebook'],
  ['sources', 'Sources'],
  ['targets', 'Targets'],
  ['templates', 'Templates'],
  ['workflows', 'Workflows'],
  ['pools', 'Pools'],
  ['separations', 'Separations'],
  ['notices', 'Notices'],
];

export function RulebookPage() {
  const [taken, setTaken] = useState('');
  const edition = useQuery({
    queryKey: ['rulebook', 'current'],
    queryFn: () => ask(api.GET('/api/v1/rulebook/editions/{number}', { params: { path: { number: 'current' } } })),
  });
  if (edition.isPending) return <Loading what="The rulebook" />;
  if (edition.isError) return <Failure error={edition.error} again={() => void edition.refetch()} />;
  const e = edition.data;
  return (
    <>
      <header className={style.head}>
        <h1>Rulebook</h1>
        <p>
          {e.title}, edition {e.number}, published {agoText(e.publishedAt)} by {e.author}
          {e.approver ? `, agreed by ${e.approver}` : ''} · digest {e.digest.slice(0, 12)}
        </p>
      </header>
      <Proposals
        edition={e.number}
        take={(proposed) => {
          keepDraft(e.digest, proposed.files);
          setTaken(proposed.proposal.id);
        }}
      />
      <Rollouts />
      <Desk key={e.digest + taken} published={e.files} digest={e.digest} />
    </>
  );
}

function Desk({ published, digest }: { published: RulebookFileBody[]; digest: string }) {
  const search = useSearch({ from: '/shell/rulebook' });
  const draft = useDraft(published, digest);
  const view = search.view ?? 'documents';
  const shown = draft.files.find((f) => f.path === search.file) ?? draft.files.find((f) => f.path === 'rulebook.yaml') ?? draft.files[0];
  const check = useQuery({
    queryKey: ['rulebook', 'check', draft.settled],
    queryFn: () => ask(api.POST('/api/v1/rulebook/check', { body: { files: draft.settled, quick: true } })),
    placeholderData: (previous) => previous,
    staleTime: 60_000,
  });
  const findings = useMemo(() => [...(check.data?.findings ?? []), ...(check.data?.warnings ?? [])], [check.data]);
  const marks = useMemo(
    () =>
      findings
        .filter((f) => f.file === shown?.path)
        .map((f) => ({
          line: f.line,
          column: f.column,
          message: f.mend ? `${f.message} ${f.mend}` : f.message,
          grave: f.code === 'error',
        })),
    [findings, shown?.path],
  );
  const changed =
    draft.files.filter((f) => isChanged(published, f)).length + published.filter((p) => !draft.files.some((f) => f.path === p.path)).length;
  const errors = check.data?.findings.length ?? 0;
  const known = useMemo(() => knownOf(draft.settled), [draft.settled]);
  const tabs: [string, string][] = [
    ['documents', 'Documents'],
    ['difference', `Difference${changed > 0 ? ` (${changed})` : ''}`],
    ['check', `Check (${errors > 0 ? `${errors} to mend` : count(check.data?.warnings.length ?? 0, 'warning')})`],
    ['rehearsal', 'Rehearsal'],
  ];
  return (
    <>
      <nav className={book.views} aria-label="Views of the draft">
        {tabs.map(([key, word]) => (
          <Link
            key={key}
            to="/rulebook"
            search={{ file: search.file, view: key === 'documents' ? undefined : key }}
            className={view === key ? book.here : ''}
            aria-current={view === key ? 'page' : undefined}
          >
            {word}
          </Link>
        ))}
        <span>
          <span className={style.quiet} role="status">
            {check.isError ? 'not checked' : errors > 0 ? count(errors, 'error') : changed > 0 ? 'sound, not published' : 'as published'}
          </span>
          {changed > 0 && (
            <Button kind="quiet" onPress={draft.reset}>
              Discard
            </Button>
          )}
          <Publish files={draft.files} sound={errors === 0 && !check.isError} changed={changed} />
        </span>
      </nav>
      {view === 'difference' && <DiffView files={draft.settled} />}
      {view === 'rehearsal' && <RehearsalView files={draft.files} sound={errors === 0} />}
      {view === 'check' && <FullCheck files={draft.settled} />}
      {view === 'documents' && (
        <div className={book.desk}>
          <nav aria-label="Documents" className={style.sheet}>
            <ul className={book.files}>
              {folders.map(([folder, word]) => {
                const own = draft.files.filter((f) => (folder ? f.path.startsWith(`${folder}/`) : !f.path.includes('/')));
                return own.length === 0 ? null : (
                  <li key={folder}>
                    <h2>{word}</h2>
                    <ul className={book.files}>
                      {own.map((f) => {
                        const wrong = findings.filter((x) => x.file === f.path && x.code === 'error').length;
                        return (
                          <li key={f.path}>
                            <Link
                              to="/rulebook"
                              search={{ file: f.path, view: undefined }}
                              className={f.path === shown?.path ? book.here : ''}
                            >
                              {f.path.split('/').at(-1)}
                              {wrong > 0 ? (
                                <small className={book.bad}>{wrong} to mend</small>
                              ) : isChanged(published, f) ? (
                                <small>changed</small>
                              ) : null}
                            </Link>
                          </li>
                        );
                      })}
                    </ul>
                  </li>
                );
              })}
            </ul>
            <NewDocument add={draft.add} taken={draft.files.map((f) => f.path)} />
          </nav>
          {shown && (
            <section aria-label={shown.path}>
              <Suspense fallback={<Loading what="The editor" />}>
                <YamlEditor
                  key={shown.path}
                  path={shown.path}
                  label={`Text of ${shown.path}`}
                  value={shown.text}
                  known={known}
                  marks={marks}
                  onChange={(text) => draft.change(shown.path, text)}
                />
              </Suspense>
            </section>
          )}
        </div>
      )}
    </>
  );
}

function NewDocument({ add, taken }: { add: (path: string) => void; taken: string[] }) {
  const [open, setOpen] = useState(false);
  const [path, setPath] = useState('templates/');
  const known = folders.some(([folder]) => folder && path.startsWith(`${folder}/`));
  const sound = known && /^[a-z]+\/[a-z][a-z0-9-]*\.yaml$/.test(path) && !taken.includes(path);
  return (
    <>
      <Button kind="quiet" onPress={() => setOpen(true)}>
        New document
      </Button>
      <Dialog title="New document" isOpen={open} close={() => setOpen(false)}>
        <Field label="Path, such as templates/divers.yaml" value={path} onChange={setPath} autoFocus />
        <DialogActions>
          <Button onPress={() => setOpen(false)}>Back</Button>
          <Button
            kind="main"
            isDisabled={!sound}
            onPress={() => {
              add(path);
              setOpen(false);
            }}
          >
            Add
          </Button>
        </DialogActions>
      </Dialog>
    </>
  );
}

function FullCheck({ files }: { files: RulebookFileBody[] }) {
  const check = useQuery({
    queryKey: ['rulebook', 'full-check', files],
    queryFn: () => ask(api.POST('/api/v1/rulebook/check', { body: { files, quick: false } })),
  });
  if (check.isPending) return <Loading what="The check" />;
  if (check.isError) return <Failure error={check.error} again={() => void check.refetch()} />;
  const all = [...check.data.findings, ...check.data.warnings];
  if (all.length === 0) return <Notice title="Sound, and nothing to think twice about." tone="good" />;
  return (
    <section className={style.sheet} aria-label="Findings and warnings">
      <table className={style.grants}>
        <thead>
          <tr>
            <th scope="col">Where</th>
            <th scope="col">What</th>
            <th scope="col">How to mend it</th>
          </tr>
        </thead>
        <tbody>
          {all.map((f) => (
            <tr key={`${f.file}:${f.line}:${f.column}:${f.message}`}>
              <td>
                <Link to="/rulebook" search={{ file: f.file, view: undefined }}>
                  {f.file}:{f.line}
                </Link>
              </td>
              <td>
                <b>{f.code === 'error' ? 'Error' : `Warning ${f.code}`}</b>
                <br />
                {f.message}
              </td>
              <td>{f.mend}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Publish({ files, sound, changed }: { files: RulebookFileBody[]; sound: boolean; changed: number }) {
  const [open, setOpen] = useState(false);
  const queries = useQueryClient();
  const publish = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/rulebook/editions', { body: { files, quick: null } })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ['rulebook'] }),
  });
  const done = publish.data;
  return (
    <>
      <Button kind="main" isDisabled={!sound || changed === 0} onPress={() => setOpen(true)}>
        Publish
      </Button>
      <Dialog title="Publish this draft?" isOpen={open} close={() => setOpen(false)}>
        {publish.isError && <Failure error={publish.error} />}
        {done ? (
          <Notice tone="good" title={done.edition ? `Edition ${done.edition.number} is published.` : 'It waits for a second person.'}>
            {done.rollout && (
              <p>
                Nobody is moved by it: {done.rollout.people} would differ, {done.rollout.losing} of them would have less.{' '}
                <Link to="/rollouts/$id" params={{ id: String(done.rollout.number) }} search={allOfIt}>
                  Roll-out {done.rollout.number}
                </Link>{' '}
                brings it to them{done.rollout.held ? ', and the brake holds it' : ''}.
                {done.rollout.failing > 0 && ` It cannot serve ${done.rollout.failing}; the list says why.`}
              </p>
            )}
            {done.replanned.length > 0 && <p>Planned anew: requests {done.replanned.map((r) => r.number).join(', ')}.</p>}
          </Notice>
        ) : (
          <p>
            {count(changed, 'document')} changed. It becomes the next edition, which nobody can alter. Open requests whose plan changes are
            planned and decided anew. Joiners and movers take it; everybody else is moved by a roll-out, which is decided on.
          </p>
        )}
        <DialogActions>
          <Button onPress={() => setOpen(false)}>{done ? 'Close' : 'Back'}</Button>
          {!done && (
            <Button kind="main" isDisabled={publish.isPending} onPress={() => publish.mutate()}>
              Publish
            </Button>
          )}
        </DialogActions>
      </Dialog>
    </>
  );
}
