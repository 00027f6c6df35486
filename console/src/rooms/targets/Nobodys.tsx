import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { type ReactNode, useState } from 'react';
import { api, ask, type NobodysAccount } from '../../api/client';
import type { components } from '../../api/schema';
import { Button } from '../../parts/Button';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Choice, Field, Labelled, SearchField } from '../../parts/Field';
import { Failure, Notice } from '../../parts/Notice';
import { at, onDay } from '../../parts/when';
import { useMe } from '../../shell/Shell';
import { PersonPicker } from '../common/PersonPicker';
import rooms from '../common/Rooms.module.css';
import style from './Targets.module.css';

type Kind = 'mark' | 'link' | 'close';
type Deed = { accounts: readonly NobodysAccount[]; kind: Kind };
type Decided = components['schemas']['AccountDecided'];

const purposes: [string, string][] = [
  ['service', 'used by a program'],
  ['shared', 'used by several people'],
  ['unmatched', 'not known yet'],
  ['ignored', 'left alone until a day'],
];
const shown: [string, string][] = [
  ['open', 'To be decided'],
  ['service', 'Of programs'],
  ['shared', 'Shared'],
  ['ignored', 'Left alone for now'],
  ['', 'All'],
];

/** Accounts that were found in targets and belong to nobody: what each is, who answers for it, and its end. */
export function Nobodys() {
  const queries = useQueryClient();
  const me = useMe();
  const [deed, setDeed] = useState<Deed>();
  const list = useQuery({ queryKey: ['targets', 'nobodys'], queryFn: () => ask(api.GET('/api/v1/accounts')) });
  const operates = me.data?.roles.includes('operator') ?? false;
  const [which, setWhich] = useState('open');
  const [text, setText] = useState('');
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [told, setTold] = useState<readonly Decided[]>([]);
  const all = list.data?.items ?? [];
  const found = all.filter((a) => isShown(a, which, text));
  const picked = found.filter((a) => chosen.has(a.id));
  const after = (decided: readonly Decided[] = []) => {
    setDeed(undefined);
    setChosen(new Set());
    setTold(decided.filter((d) => d.problem));
    return queries.invalidateQueries({ queryKey: ['targets'] });
  };
  const toggle = (ids: readonly string[], on: boolean) =>
    setChosen((before) => new Set(on ? [...before, ...ids] : [...before].filter((id) => !ids.includes(id))));
  return (
    <section className={rooms.sheet} aria-labelledby="nobodys">
      <h2 id="nobodys">Accounts of nobody</h2>
      <p className={rooms.quiet}>
        They were found in a target and answer to no person. Say what each is and who answers for it: what is marked as shared or as a
        program's is never taken for a person's account.
      </p>
      {list.isError && <Failure error={list.error} />}
      {list.data && all.length === 0 && <p>Every account that was found belongs to a person.</p>}
      {all.length > 0 && (
        <div className={style.tools}>
          <Choice label="Show" value={which} options={shown} onChange={setWhich} />
          <SearchField label="Find by name, target or owner" value={text} onChange={setText} />
          <p className={style.chosen} aria-live="polite">
            {picked.length > 0 && (
              <>
                <b>{picked.length} chosen</b>
                <Button kind="main" onPress={() => setDeed({ accounts: picked, kind: 'mark' })}>
                  Say what they are
                </Button>
                <Button onPress={() => setDeed({ accounts: picked, kind: 'close' })}>Close them</Button>
              </>
            )}
          </p>
        </div>
      )}
      {told.map((d) => (
        <Notice key={d.id} tone="bad" title={all.find((a) => a.id === d.id)?.name ?? d.id}>
          {d.problem}
        </Notice>
      ))}
      {all.length > 0 && found.length === 0 && <p>None is like that.</p>}
      {found.length > 0 && (
        <table className={rooms.grants}>
          <thead>
            <tr>
              {operates && (
                <th scope="col">
                  <input
                    type="checkbox"
                    aria-label="Choose all that are shown"
                    checked={picked.length === found.length}
                    onChange={(e) =>
                      toggle(
                        found.map((a) => a.id),
                        e.target.checked,
                      )
                    }
                  />
                </th>
              )}
              <th scope="col">Account</th>
              <th scope="col">Taken for</th>
              <th scope="col">Answers for it</th>
              <th scope="col">State</th>
              {operates && (
                <th scope="col">
                  <span className="unseen">What can be done</span>
                </th>
              )}
            </tr>
          </thead>
          <tbody>
            {found.map((account) => (
              <tr key={account.id}>
                {operates && (
                  <td>
                    <input
                      type="checkbox"
                      aria-label={`Choose ${account.name}`}
                      checked={chosen.has(account.id)}
                      onChange={(e) => toggle([account.id], e.target.checked)}
                    />
                  </td>
                )}
                <td>
                  <b>{account.name}</b> in {account.targetTitle} <div className={rooms.quiet}>{account.location}</div>
                </td>
                <td>{account.review ? `left alone; asked again on ${onDay(account.review)}` : account.purpose}</td>
                <td>{account.ownerName ? `${account.ownerName}, ${account.ownerNumber}` : 'nobody'}</td>
                <td>
                  {stateOf(account)}
                  {account.request && (
                    <>
                      {' '}
                      <Link to="/requests/$id" params={{ id: String(account.request) }}>
                        request {account.request}
                      </Link>
                    </>
                  )}
                </td>
                {operates && (
                  <td>
                    <span className={style.deeds}>
                      <Button onPress={() => setDeed({ accounts: [account], kind: 'mark' })}>Say what it is</Button>
                      {!isKnown(account) && <Button onPress={() => setDeed({ accounts: [account], kind: 'link' })}>Whose it is</Button>}
                      {account.ownerNumber && account.enabled && (account.until || !account.request) && (
                        <Button onPress={() => setDeed({ accounts: [account], kind: 'close' })}>
                          {account.until ? 'Another end' : 'Close it'}
                        </Button>
                      )}
                    </span>
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {deed?.kind === 'mark' && <Mark accounts={deed.accounts} close={() => setDeed(undefined)} after={after} />}
      {deed?.kind === 'link' && <Whose accounts={deed.accounts} close={() => setDeed(undefined)} after={after} />}
      {deed?.kind === 'close' && <Close accounts={deed.accounts} close={() => setDeed(undefined)} after={after} />}
    </section>
  );
}

function stateOf(account: NobodysAccount): string {
  if (!account.enabled) return 'disabled';
  if (account.until) return `enabled, until ${at(account.until)}`;
  return 'enabled';
}

const isKnown = (account: NobodysAccount) => account.purpose === 'service' || account.purpose === 'shared';

/** Whether a list shows an account: what is to be decided is what nobody knows yet. */
export function isShown(account: NobodysAccount, which: string, text: string): boolean {
  const likes = `${account.name} ${account.targetTitle} ${account.ownerName ?? ''}`.toLowerCase().includes(text.trim().toLowerCase());
  return likes && (which === '' || account.purpose === (which === 'open' ? 'unmatched' : which));
}

const nameOf = (accounts: readonly NobodysAccount[]) => (accounts.length === 1 ? accounts[0]?.name : `these ${accounts.length} accounts`);

interface Form {
  accounts: readonly NobodysAccount[];
  close: () => void;
  after: (decided?: readonly Decided[]) => Promise<void>;
}

/** A question about one account: what is filled in, and what became of it. */
function Question({
  title,
  yes,
  deed,
  close,
  children,
}: {
  title: string;
  yes: string;
  deed: { mutate: () => void; isPending: boolean; error: Error | null };
  close: () => void;
  children: ReactNode;
}) {
  return (
    <Dialog title={title} isOpen close={close}>
      <form
        className={rooms.stack}
        onSubmit={(event) => {
          event.preventDefault();
          deed.mutate();
        }}
      >
        {children}
        {deed.error && <Failure error={deed.error} />}
        <DialogActions>
          <Button onPress={close}>Back</Button>
          <Button kind="main" type="submit" isDisabled={deed.isPending}>
            {yes}
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}

function Mark({ accounts, close, after }: Form) {
  const first = accounts[0];
  const [purpose, setPurpose] = useState(first && first.purpose !== 'unmatched' ? first.purpose : 'service');
  const [owner, setOwner] = useState(first?.ownerNumber ?? '');
  const [until, setUntil] = useState('');
  const [remark, setRemark] = useState('');
  const mark = useMutation({
    mutationFn: async (): Promise<readonly Decided[]> => {
      const body = { purpose, owner: owner || null, remark, until: until || null };
      if (accounts.length > 1) return ask(api.PUT('/api/v1/accounts', { body: { accounts: accounts.map((a) => a.id), mark: body } }));
      await ask(api.PUT('/api/v1/accounts/{id}', { params: { path: { id: first?.id ?? '' } }, body }));
      return [];
    },
    onSuccess: after,
  });
  const isIgnored = purpose === 'ignored';
  return (
    <Question
      title={accounts.length === 1 ? `What is ${nameOf(accounts)}?` : `What are ${nameOf(accounts)}?`}
      yes="Write it down"
      deed={mark}
      close={close}
    >
      <Choice label={accounts.length === 1 ? 'It is' : 'They are'} value={purpose} options={purposes} onChange={setPurpose} />
      {isIgnored ? (
        <Field label="Left alone until (included)" value={until} onChange={setUntil} type="date" required />
      ) : (
        <Labelled label="Who answers for it" id="answers">
          <PersonPicker id="answers" value={owner} onChange={setOwner} />
        </Labelled>
      )}
      <Field label="Remark for the ledger" value={remark} onChange={setRemark} required />
    </Question>
  );
}

function Whose({ accounts, close, after }: Form) {
  const [person, setPerson] = useState('');
  const [reason, setReason] = useState('');
  const link = useMutation({
    mutationFn: () =>
      ask(api.POST('/api/v1/accounts/{id}/link', { params: { path: { id: accounts[0]?.id ?? '' } }, body: { person, reason } })),
    onSuccess: () => after(),
  });
  return (
    <Question title={`Whose is ${nameOf(accounts)}?`} yes="It is theirs" deed={link} close={close}>
      <p>It is recorded as theirs with what it holds. What the rules make of it follows as a request that people decide on.</p>
      <Labelled label="It belongs to" id="whose">
        <PersonPicker id="whose" value={person} onChange={setPerson} />
      </Labelled>
      <Field label="Reason for the ledger" value={reason} onChange={setReason} required />
    </Question>
  );
}

function Close({ accounts, close, after }: Form) {
  const [reason, setReason] = useState('');
  const [lastDay, setLastDay] = useState('');
  const [what, setWhat] = useState('end');
  const keep = what === 'keep';
  const ending = useMutation({
    mutationFn: async (): Promise<readonly Decided[]> => {
      const body = { lastDay: keep ? null : lastDay || null, reason, keep };
      if (accounts.length > 1)
        return ask(api.POST('/api/v1/accounts/close', { body: { accounts: accounts.map((a) => a.id), closing: body } }));
      await ask(api.POST('/api/v1/accounts/{id}/close', { params: { path: { id: accounts[0]?.id ?? '' } }, body }));
      return [];
    },
    onSuccess: after,
  });
  return (
    <Question title={`Close ${nameOf(accounts)}`} yes="Ask for it" deed={ending} close={close}>
      <p>
        This raises a request for each. Whoever decides for {accounts.length === 1 ? accounts[0]?.ownerName : 'its owner'} decides, and the
        account is disabled and read back like any other.
      </p>
      {accounts.every((a) => a.until) && (
        <Choice
          label="It"
          value={what}
          options={[
            ['end', 'ends on another day'],
            ['keep', 'stays: the end is taken back'],
          ]}
          onChange={setWhat}
        />
      )}
      {!keep && <Field label="Last day (at once, if left empty)" value={lastDay} onChange={setLastDay} type="date" />}
      <Field label="Reason" value={reason} onChange={setReason} required />
    </Question>
  );
}
