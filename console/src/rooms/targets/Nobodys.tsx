import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { type ReactNode, useState } from 'react';
import { api, ask, type NobodysAccount } from '../../api/client';
import { Button } from '../../parts/Button';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Choice, Field } from '../../parts/Field';
import { Failure } from '../../parts/Notice';
import { at } from '../../parts/when';
import { useMe } from '../../shell/Shell';
import { PersonPicker } from '../common/PersonPicker';
import rooms from '../common/Rooms.module.css';

type Deed = { account: NobodysAccount; kind: 'mark' | 'close' };

const purposes: [string, string][] = [
  ['service', 'A program uses it'],
  ['shared', 'Several people use it'],
  ['unmatched', 'Nobody knows yet'],
];

/** Accounts that were found in targets and belong to nobody: what each is, who answers for it, and its end. */
export function Nobodys() {
  const queries = useQueryClient();
  const me = useMe();
  const [deed, setDeed] = useState<Deed>();
  const list = useQuery({ queryKey: ['targets', 'nobodys'], queryFn: () => ask(api.GET('/api/v1/accounts')) });
  const operates = me.data?.roles.includes('operator') ?? false;
  const found = list.data?.items ?? [];
  const after = () => {
    setDeed(undefined);
    return queries.invalidateQueries({ queryKey: ['targets'] });
  };
  return (
    <section className={rooms.sheet} aria-labelledby="nobodys">
      <h2 id="nobodys">Accounts of nobody</h2>
      <p className={rooms.quiet}>
        They were found in a target and answer to no person. Say what each is and who answers for it: what is marked as shared or as a
        program's is never taken for a person's account.
      </p>
      {list.isError && <Failure error={list.error} />}
      {list.data && found.length === 0 && <p>Every account that was found belongs to a person.</p>}
      {found.length > 0 && (
        <table className={rooms.grants}>
          <thead>
            <tr>
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
                <td>
                  <b>{account.name}</b> in {account.targetTitle} <div className={rooms.quiet}>{account.location}</div>
                </td>
                <td>{account.purpose}</td>
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
                    <span className={rooms.line}>
                      <Button onPress={() => setDeed({ account, kind: 'mark' })}>Say what it is</Button>
                      {account.ownerNumber && account.enabled && (account.until || !account.request) && (
                        <Button onPress={() => setDeed({ account, kind: 'close' })}>{account.until ? 'Another end' : 'Close it'}</Button>
                      )}
                    </span>
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {deed?.kind === 'mark' && <Mark account={deed.account} close={() => setDeed(undefined)} after={after} />}
      {deed?.kind === 'close' && <Close account={deed.account} close={() => setDeed(undefined)} after={after} />}
    </section>
  );
}

function stateOf(account: NobodysAccount): string {
  if (!account.enabled) return 'disabled';
  if (account.until) return `enabled, until ${at(account.until)}`;
  return 'enabled';
}

interface Form {
  account: NobodysAccount;
  close: () => void;
  after: () => Promise<void>;
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

function Mark({ account, close, after }: Form) {
  const [purpose, setPurpose] = useState(account.purpose === 'unmatched' ? 'service' : account.purpose);
  const [owner, setOwner] = useState(account.ownerNumber ?? '');
  const [remark, setRemark] = useState('');
  const mark = useMutation({
    mutationFn: () =>
      ask(api.PUT('/api/v1/accounts/{id}', { params: { path: { id: account.id } }, body: { purpose, owner: owner || null, remark } })),
    onSuccess: after,
  });
  return (
    <Question title={`What is ${account.name}?`} yes="Write it down" deed={mark} close={close}>
      <Choice label="It is" value={purpose} options={purposes} onChange={setPurpose} />
      <div className={rooms.stack}>
        <label htmlFor="answers">Who answers for it</label>
        <PersonPicker id="answers" value={owner} onChange={setOwner} />
      </div>
      <Field label="Remark for the ledger" value={remark} onChange={setRemark} required />
    </Question>
  );
}

function Close({ account, close, after }: Form) {
  const [reason, setReason] = useState('');
  const [lastDay, setLastDay] = useState('');
  const [what, setWhat] = useState('end');
  const keep = what === 'keep';
  const ending = useMutation({
    mutationFn: () =>
      ask(
        api.POST('/api/v1/accounts/{id}/close', {
          params: { path: { id: account.id } },
          body: { lastDay: keep ? null : lastDay || null, reason, keep },
        }),
      ),
    onSuccess: after,
  });
  return (
    <Question title={`Close ${account.name}`} yes="Ask for it" deed={ending} close={close}>
      <p>
        This raises a request. Whoever decides for {account.ownerName} decides, and the account is disabled and read back like any other.
      </p>
      {account.until && (
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
