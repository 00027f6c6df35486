import { useInfiniteQuery, useMutation, useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useSearch } from '@tanstack/react-router';
import { useDeferredValue, useState } from 'react';
import { api, ask, type Schemas } from '../../api/client';
import { canProve, isIncluded, isSigned, readHeads } from '../../api/proof';
import { Button } from '../../parts/Button';
import type { Column } from '../../parts/DataTable';
import { Dialog } from '../../parts/Dialog';
import { Field, Filters, SearchField } from '../../parts/Field';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { PagedTable } from '../../parts/PagedTable';
import { Pair } from '../../parts/Pair';
import { agoText, at } from '../../parts/when';
import { useMe } from '../../shell/Shell';
import style from '../common/Rooms.module.css';

type Entry = Schemas['LedgerEntryView'];

export const allEntries = { kind: undefined, person: undefined, request: undefined, actor: undefined, entry: undefined };

const columns: Column<Entry>[] = [
  { title: 'When', width: '10.5rem', cell: (e) => at(e.at) },
  { title: 'What', width: 'minmax(10rem, 1.2fr)', cell: (e) => <b>{e.kind}</b> },
  { title: 'Who', width: '7rem', cell: (e) => e.actor },
  { title: 'In short', width: 'minmax(10rem, 2.4fr)', cell: shortly },
  { title: 'Place', width: '4.5rem', cell: (e) => e.position ?? 'soon' },
];

/** What every entry has, and what stands elsewhere on the page. */
const frame = new Set(['id', 'at', 'actor', 'kind', 'person', 'request', 'digest', 'sealed', 'forgotten']);

/** The first words of an entry's body. */
function shortly(entry: Entry): string {
  if (entry.forgottenAt) return `what it said was forgotten by ${entry.forgottenBy}`;
  return Object.entries(entry.body as Record<string, unknown>)
    .filter(([name, value]) => !frame.has(name) && (typeof value === 'string' || typeof value === 'number'))
    .map(([name, value]) => `${name} ${value}`)
    .join(', ');
}

/** The record: what happened, proven entry by entry, and its signed heads. */
export function LedgerPage() {
  const navigate = useNavigate();
  const search = useSearch({ from: '/shell/ledger' });
  const { entry, ...asked } = search;
  const filter = useDeferredValue(asked);
  const list = useInfiniteQuery({
    queryKey: ['ledger', 'list', filter],
    queryFn: ({ pageParam }) => ask(api.GET('/api/v1/ledger', { params: { query: { ...filter, limit: 100, after: pageParam } } })),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: (previous) => previous,
  });
  const go = (change: Partial<typeof search>) => void navigate({ to: '/ledger', search: { ...search, ...change }, replace: true });
  const scope = new URLSearchParams(
    Object.entries({ person: asked.person, request: asked.request }).filter((e): e is [string, string] => e[1] !== undefined),
  );
  return (
    <>
      <header className={style.head}>
        <div className={style.title}>
          <h1>Ledger</h1>
          <a href={`/api/v1/ledger/export?${scope}`} download="ledger.ndjson">
            Export with proofs
          </a>
        </div>
        <p>What happened, by whom and when. Nothing is taken out of it unseen: each entry is part of a signed head.</p>
      </header>
      <div className={style.columns}>
        <div className={style.stack}>
          <Filters>
            <SearchField label="Kind, such as request." value={search.kind ?? ''} onChange={(v) => go({ kind: v || undefined })} />
            <SearchField further label="Employee number" value={search.person ?? ''} onChange={(v) => go({ person: v || undefined })} />
            <SearchField further label="Request" value={search.request ?? ''} onChange={(v) => go({ request: v || undefined })} />
            <SearchField further label="User" value={search.actor ?? ''} onChange={(v) => go({ actor: v || undefined })} />
          </Filters>
          <PagedTable
            list={list}
            label="Ledger entries"
            columns={columns}
            keyOf={(e) => e.id}
            open={(e) => go({ entry: e.id })}
            empty="No entry is like that."
          />
        </div>
        <aside className={style.stack}>
          <Verify />
          <Heads />
          <Keys />
        </aside>
      </div>
      {entry && <EntryDialog id={entry} close={() => go({ entry: undefined })} />}
    </>
  );
}

/** One entry, and whether it is in the newest head: reckoned here, in the browser. */
function EntryDialog({ id, close }: { id: string; close: () => void }) {
  const proof = useQuery({
    queryKey: ['ledger', 'entry', id],
    queryFn: () => ask(api.GET('/api/v1/ledger/entries/{entry}', { params: { path: { entry: id } } })),
    retry: false,
  });
  const keys = useQuery({
    meta: { what: 'The keys of the ledger' },
    queryKey: ['ledger', 'keys'],
    queryFn: () => ask(api.GET('/api/v1/ledger/keys')),
  });
  const own = useQuery({
    meta: { what: 'The proof' },
    queryKey: ['ledger', 'proven', proof.data?.head.size, id],
    enabled: proof.data !== undefined && keys.data !== undefined && canProve(),
    queryFn: async () => {
      const { sealed, entry, head, proof: path } = proof.data as Schemas['LedgerProof'];
      const key = keys.data?.items.find((k) => k.id === head.key);
      return {
        included: await isIncluded(sealed, entry.position ?? -1, head.size, path, head.root),
        signed: key !== undefined && (await isSigned(head, key.publicKey)),
      };
    },
  });
  const entry = proof.data?.entry;
  const holds = own.data ? own.data.included && own.data.signed : proof.data?.holds;
  return (
    <Dialog title={entry ? `${entry.kind} at place ${entry.position}` : 'Ledger entry'} isOpen close={close} wide>
      {proof.isPending && <Loading what="The entry" />}
      {proof.isError && <Failure error={proof.error} />}
      {proof.data && entry && (
        <div className={style.stack}>
          {holds === undefined ? null : holds ? (
            <Notice tone="good" title="It is in the record">
              {own.data
                ? [
                    `Reckoned in this browser: with ${proof.data.proof.length} hashes it leads to the head of `,
                    `${proof.data.head.size} entries, which is signed by the key ${proof.data.head.key}.`,
                  ].join('')
                : 'So says the service; over HTTPS the browser reckons it itself.'}
            </Notice>
          ) : (
            <Notice tone="bad" title="It does not lead to the signed head">
              {own.data && !own.data.signed ? 'The signature of the head is not sound.' : 'The entry is not what was sealed.'} Verify the
              ledger, and keep what you have exported.
            </Notice>
          )}
          {entry.forgottenAt && (
            <Notice title={`Forgotten on ${at(entry.forgottenAt)}`}>
              What it said of the person is gone by {entry.forgottenBy}; that it happened is still proven.
            </Notice>
          )}
          <dl className={style.facts}>
            <Pair name="When" value={at(entry.at)} />
            <Pair name="Who" value={entry.actor} />
            {entry.personId && (
              <Pair
                name="Person"
                value={
                  <Link to="/people/$id" params={{ id: entry.personId }}>
                    see the person
                  </Link>
                }
              />
            )}
            {entry.requestId && (
              <Pair
                name="Request"
                value={
                  <Link to="/requests/$id" params={{ id: entry.requestId }}>
                    see the request
                  </Link>
                }
              />
            )}
            {Object.entries(entry.body as Record<string, unknown>)
              .filter(([name]) => !frame.has(name) || name === 'digest')
              .map(([name, value]) => (
                <Pair key={name} name={name} value={typeof value === 'string' ? value : JSON.stringify(value)} />
              ))}
          </dl>
          <details>
            <summary>Exactly as it was sealed, and its proof</summary>
            <pre className={style.sealed}>{proof.data.sealed}</pre>
            <pre className={style.sealed}>{proof.data.proof.join('\n')}</pre>
          </details>
        </div>
      )}
    </Dialog>
  );
}

function Verify() {
  const [kept, setKept] = useState('');
  const [unread, setUnread] = useState('');
  const run = useMutation({
    mutationFn: (heads: Schemas['LedgerHead'][]) => ask(api.POST('/api/v1/ledger/verify', { body: { heads } })),
  });
  const found = run.data;
  return (
    <section className={style.sheet} aria-labelledby="verify">
      <h2 id="verify">Verify</h2>
      <form
        className={style.stack}
        onSubmit={(event) => {
          event.preventDefault();
          try {
            setUnread('');
            run.mutate(readHeads(kept));
          } catch {
            setUnread('That is no signed head. Paste it as you copied it from here or from the file of heads.');
          }
        }}
      >
        <Field label="A head you kept elsewhere (may stay empty)" value={kept} onChange={setKept} long />
        {unread && <p className={style.bad}>{unread}</p>}
        <div className={style.actions}>
          <Button kind="main" type="submit" isDisabled={run.isPending}>
            {run.isPending ? 'Reckoning …' : 'Verify the whole ledger'}
          </Button>
        </div>
      </form>
      <div className={style.after} aria-live="polite">
        {run.isError && <Failure error={run.error} />}
        {found && (
          <Notice tone={found.sound ? 'good' : 'bad'} title={found.sound ? 'Sound' : 'Not sound'}>
            {found.faults.length === 0 ? (
              <>
                {found.entries} entries, {found.unsealed} of them not sealed yet, and {found.heads} signed heads, reckoned again in{' '}
                {found.milliseconds} ms{found.kept > 0 ? `, and held against ${found.kept} kept outside the store` : ''}.
              </>
            ) : (
              <ul>
                {found.faults.map((fault) => (
                  <li key={fault}>{fault}</li>
                ))}
              </ul>
            )}
          </Notice>
        )}
      </div>
    </section>
  );
}

function Heads() {
  const [copied, setCopied] = useState(0);
  const list = useQuery({
    queryKey: ['ledger', 'heads'],
    queryFn: () => ask(api.GET('/api/v1/ledger/heads', { params: { query: { limit: 5 } } })),
  });
  return (
    <section className={style.sheet} aria-labelledby="heads">
      <h2 id="heads">Signed heads</h2>
      <p className={style.quiet}>Keep one where the service cannot reach it; whoever changes the record later cannot match it.</p>
      {list.isError && <Failure error={list.error} />}
      <ul className={style.list}>
        {list.data?.items.map((head) => (
          <li key={head.size}>
            <div className={style.line}>
              <span>
                <b>{head.size}</b> entries, <code title={head.root}>{head.root.slice(0, 10)}…</code>
                <br />
                <span className={style.quiet}>{agoText(new Date(head.at).toISOString())}</span>
              </span>
              <Button
                onPress={() => {
                  void navigator.clipboard.writeText(JSON.stringify(head));
                  setCopied(head.size);
                }}
              >
                {copied === head.size ? 'Copied' : 'Copy'}
              </Button>
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Keys() {
  const me = useMe();
  const list = useQuery({ queryKey: ['ledger', 'keys'], queryFn: () => ask(api.GET('/api/v1/ledger/keys')) });
  return (
    <section className={style.sheet} aria-labelledby="keys">
      <h2 id="keys">Keys</h2>
      {list.isError && <Failure error={list.error} />}
      <ul className={style.list}>
        {list.data?.items.map((key) => (
          <li key={key.id}>
            <code>{key.id}</code>
            <span className={style.quiet}>
              from entry {key.fromSize} on, since {at(key.since)}
              {key.namedBy === key.id ? '' : `, named by ${key.namedBy}`}
            </span>
          </li>
        ))}
      </ul>
      {me.data?.roles.includes('engineer') && (
        <p className={style.quiet}>
          A new one: <code>oikonom ledger rotate-key</code>
        </p>
      )}
    </section>
  );
}
