import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask, type NobodysAccount } from '../api/client';
import { Button } from '../parts/Button';
import { Dialog, DialogActions } from '../parts/Dialog';
import { Choice, Field } from '../parts/Field';
import { Failure } from '../parts/Notice';
import { at } from '../parts/when';
import { useMe } from '../shell/Shell';
import { PersonPicker } from './PersonPicker';
import rooms from './Rooms.module.css';

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
                      {account.ownerNumber && account.enabled && !account.request && (
                        <Button onPress={() => setDeed({ account, kind: 'close' })}>Close it</Button>
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
    <Dialog title={`What is ${account.name}?`} isOpen close={close}>
      <form
        className={rooms.stack}
        onSubmit={(event) => {
          event.preventDefault();
          mark.mutate();
        }}
      >
        <Choice label="It is" value={purpose} options={purposes} onChange={setPurpose} />
        <div className={rooms.stack}>
          <label htmlFor="answers">Who answers for it</label>
          <PersonPicker id="answers" value={owner} onChange={setOwner} />
        </div>
        <Field label="Remark for the ledger" value={remark} onChange={setRemark} required />
        {mark.isError && <Failure error={mark.error} />}
        <DialogActions>
          <Button onPress={close}>Back</Button>
          <Button kind="main" type="submit" isDisabled={mark.isPending}>
            Write it down
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}

function Close({ account, close, after }: Form) {
  const [reason, setReason] = useState('');
  const [lastDay, setLastDay] = useState('');
  const ending = useMutation({
    mutationFn: () =>
      ask(
        api.POST('/api/v1/accounts/{id}/close', {
          params: { path: { id: account.id } },
          body: { lastDay: lastDay || null, reason },
        }),
      ),
    onSuccess: after,
  });
  return (
    <Dialog title={`Close ${account.name}`} isOpen close={close}>
      <form
        className={rooms.stack}
        onSubmit={(event) => {
          event.preventDefault();
          ending.mutate();
        }}
      >
        <p>
          This raises a request. Whoever decides for {account.ownerName} decides, and the account is disabled and read back like any other.
        </p>
        <Field label="Last day (at once, if left empty)" value={lastDay} onChange={setLastDay} type="date" />
        <Field label="Reason" value={reason} onChange={setReason} required />
        {ending.isError && <Failure error={ending.error} />}
        <DialogActions>
          <Button onPress={close}>Back</Button>
          <Button kind="main" type="submit" isDisabled={ending.isPending}>
            Ask for it
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}
