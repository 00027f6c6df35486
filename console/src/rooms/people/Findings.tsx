import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask, type PersonDetail } from '../../api/client';
import { Button } from '../../parts/Button';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Field } from '../../parts/Field';
import { Failure, Notice } from '../../parts/Notice';
import { at } from '../../parts/when';
import { useMe } from '../../shell/Shell';
import style from '../common/Rooms.module.css';
import { accountOf, useWords } from '../common/words';
import { Titled } from '../requests/Plan';

type Finding = NonNullable<PersonDetail['findings']>[number];

const values = (list: string[]) => (list.length === 0 ? 'nothing' : list.join(', '));

/** Accounts that are not as they were left: how, since when, and what becomes of it. */
export function Findings({ person }: { person: PersonDetail }) {
  const me = useMe();
  const queries = useQueryClient();
  const look = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/people/{id}/look', { params: { path: { id: person.id } } })),
    onSettled: () => queries.invalidateQueries(),
  });
  const mayLook = person.accounts.length > 0 && me.data?.roles.some((role) => role === 'operator' || role === 'engineer');
  return (
    <>
      {(person.findings ?? []).map((f) => (
        <FindingNotice key={f.target + f.slot} person={person} finding={f} />
      ))}
      {look.isError && <Failure error={look.error} />}
      {mayLook && (
        <p>
          <Button kind="quiet" onPress={() => look.mutate()} isDisabled={look.isPending}>
            {look.isPending ? 'Reading the targets …' : 'Look at the targets now'}
          </Button>{' '}
          {look.isSuccess && look.data.length === 0 && <span className={style.quiet}>All is as it was left.</span>}
        </p>
      )}
    </>
  );
}

function FindingNotice({ person, finding }: { person: PersonDetail; finding: Finding }) {
  const words = useWords();
  const account = accountOf(finding.target, finding.slot);
  return (
    <Notice
      tone={finding.leftBy ? 'calm' : 'bad'}
      title={`${finding.account} in ${words.target(account)} was changed outside, seen since ${at(finding.since)}`}
    >
      <ul>
        {finding.differences.map((d) => (
          <li key={d.text}>
            {d.name ? (
              <>
                <Titled title={words.held(finding.target, d.name)} name={d.name} />: {values(d.left)} → <b>{values(d.found)}</b>
              </>
            ) : (
              d.text
            )}
          </li>
        ))}
      </ul>
      <p>
        {finding.leftBy ? `It stays so: ${finding.leftBy}, ${finding.remark}.` : null}
        {!finding.leftBy && finding.requestId ? (
          <Link to="/requests/$id" params={{ id: finding.requestId }}>
            The request that sets it right
          </Link>
        ) : null}{' '}
        {finding.mayLeave && <Leave person={person} account={account} />}
      </p>
    </Notice>
  );
}

/** Lets the account stay as it is, with a reason. */
function Leave({ person, account }: { person: PersonDetail; account: string }) {
  const [isOpen, setOpen] = useState(false);
  const [reason, setReason] = useState('');
  const queries = useQueryClient();
  const leave = useMutation({
    mutationFn: () =>
      ask(
        api.POST('/api/v1/people/{id}/findings/leave', {
          params: { path: { id: person.id } },
          body: { account, reason: reason.trim() },
        }),
      ),
    onSuccess: async () => {
      await queries.invalidateQueries();
      setOpen(false);
    },
  });
  return (
    <>
      <Button kind="quiet" onPress={() => setOpen(true)}>
        Let it stay so
      </Button>
      <Dialog title="Let it stay so" isOpen={isOpen} close={() => setOpen(false)}>
        <p>The request that would set it right is taken back, and later plans leave the account as it is.</p>
        <Field label="Reason" value={reason} onChange={setReason} long autoFocus />
        {leave.isError && <Failure error={leave.error} />}
        <DialogActions>
          <Button kind="main" onPress={() => leave.mutate()} isDisabled={leave.isPending || reason.trim() === ''}>
            Let it stay so
          </Button>
          <Button onPress={() => setOpen(false)}>Not now</Button>
        </DialogActions>
      </Dialog>
    </>
  );
}
