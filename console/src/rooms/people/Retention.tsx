import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask, type PersonDetail } from '../../api/client';
import { Button } from '../../parts/Button';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Field } from '../../parts/Field';
import { Failure } from '../../parts/Notice';
import { at, onDay } from '../../parts/when';
import { useMe } from '../../shell/Shell';
import rooms from '../common/Rooms.module.css';

const useRetention = () => useQuery({ queryKey: ['people', 'retention'], queryFn: () => ask(api.GET('/api/v1/retention')) });

/** Who is forgotten next and what stops it, orders that wait for a second person, and what is held. */
export function Retention() {
  const queries = useQueryClient();
  const me = useMe();
  const view = useRetention();
  const after = () => queries.invalidateQueries({ queryKey: ['people'] });
  const confirm = useMutation({
    mutationFn: (id: string) => ask(api.POST('/api/v1/retention/orders/{id}/confirm', { params: { path: { id } } })),
    onSuccess: after,
  });
  const decline = useMutation({
    mutationFn: (id: string) => ask(api.POST('/api/v1/retention/orders/{id}/decline', { params: { path: { id } } })),
    onSuccess: after,
  });
  const release = useMutation({
    mutationFn: (id: string) => ask(api.DELETE('/api/v1/people/{id}/hold', { params: { path: { id } } })),
    onSuccess: after,
  });
  const failed = view.error ?? confirm.error ?? decline.error ?? release.error;
  const data = view.data;
  return (
    <section className={rooms.sheet} aria-labelledby="retention">
      <h2 id="retention">What is kept, and how long</h2>
      <p className={rooms.quiet}>
        {data?.rule
          ? [
              `What is said of somebody is forgotten ${data.rule}`,
              data.powerfulRule && `, decisions on powerful access ${data.powerfulRule}`,
              '. That something happened stays on the ledger.',
            ]
          : 'The rulebook has no rule of retention, so nothing is forgotten by itself.'}
      </p>
      {failed && <Failure error={failed} />}
      {data?.orders.map((order) => (
        <div key={order.id} className={rooms.line}>
          <span>
            <b>{order.askedBy}</b> orders that{' '}
            <Link to="/people/$id" params={{ id: order.personId }}>
              {order.name}, {order.number}
            </Link>{' '}
            be forgotten: {order.reason} <span className={rooms.quiet}>{at(order.at)}</span>
          </span>
          {order.askedBy === me.data?.name ? (
            <span className={rooms.quiet}>waits for a second person</span>
          ) : (
            <span className={rooms.line}>
              <Button kind="grave" onPress={() => confirm.mutate(order.id)} isDisabled={confirm.isPending}>
                Forget now
              </Button>
              <Button onPress={() => decline.mutate(order.id)} isDisabled={decline.isPending}>
                Decline
              </Button>
            </span>
          )}
        </div>
      ))}
      {data && data.next.length === 0 && <p>Nobody is due within 90 days.</p>}
      {data && data.next.length > 0 && (
        <table className={rooms.grants}>
          <thead>
            <tr>
              <th scope="col">Person</th>
              <th scope="col">Left</th>
              <th scope="col">Forgotten on</th>
              <th scope="col">What stops it</th>
            </tr>
          </thead>
          <tbody>
            {data.next.map((entry) => (
              <tr key={entry.personId}>
                <td>
                  <Link to="/people/$id" params={{ id: entry.personId }}>
                    {entry.name}
                  </Link>{' '}
                  <span className={rooms.quiet}>{entry.number}</span>
                </td>
                <td>{onDay(entry.left)}</td>
                <td>{onDay(entry.on)}</td>
                <td>{entry.stops.length === 0 ? '–' : entry.stops.join(', ')}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {data?.holds.map((hold) => (
        <p key={hold.personId} className={rooms.line}>
          <span>
            {hold.name}, {hold.number}, is kept until {onDay(hold.until)} by {hold.by}: {hold.reason}
          </span>
          <Button onPress={() => release.mutate(hold.personId)} isDisabled={release.isPending}>
            End the hold
          </Button>
        </p>
      ))}
    </section>
  );
}

type Deed = 'hold' | 'forget';

/** What may be done with the record of one person: taken as a file, kept longer, or ordered to be forgotten. */
export function PersonRecord({ person }: { person: PersonDetail }) {
  const queries = useQueryClient();
  const me = useMe();
  const view = useRetention();
  const [deed, setDeed] = useState<Deed>();
  const [reason, setReason] = useState('');
  const [until, setUntil] = useState('');
  const params = { path: { id: person.id } };
  const after = () => {
    setDeed(undefined);
    setReason('');
    return queries.invalidateQueries({ queryKey: ['people'] });
  };
  const act = useMutation({
    mutationFn: async (what: Deed) => {
      if (what === 'hold') await ask(api.POST('/api/v1/people/{id}/hold', { params, body: { reason, until } }));
      else await ask(api.POST('/api/v1/people/{id}/forget', { params, body: { reason } }));
    },
    onSuccess: after,
  });
  const hold = view.data?.holds.find((h) => h.personId === person.id);
  const order = view.data?.orders.find((o) => o.personId === person.id);
  const next = view.data?.next.find((n) => n.personId === person.id);
  return (
    <section className={rooms.sheet} aria-labelledby="person-record">
      <h2 id="person-record">What is held</h2>
      {next && (
        <p>
          Forgotten on {onDay(next.on)}
          {next.stops.length > 0 ? `, unless: ${next.stops.join(', ')}` : ''}.
        </p>
      )}
      {hold && (
        <p>
          Kept until {onDay(hold.until)} by {hold.by}: {hold.reason}
        </p>
      )}
      {order && (
        <p>
          {order.askedBy} ordered to forget it ({order.reason}); a second person confirms that under Service.
        </p>
      )}
      <div className={rooms.actions}>
        <a href={`/api/v1/people/${encodeURIComponent(person.id)}/data`} download={`${person.number}.json`}>
          Download all of it
        </a>
        <Button onPress={() => setDeed('hold')}>Keep it longer</Button>
        {me.data?.roles.includes('engineer') && !order && !person.forgottenAt && (
          <Button kind="grave" onPress={() => setDeed('forget')}>
            Order to forget
          </Button>
        )}
      </div>
      {deed && (
        <Dialog
          title={deed === 'hold' ? `Keep the record of ${person.name}` : `Forget ${person.name}`}
          isOpen
          close={() => setDeed(undefined)}
        >
          <form
            className={rooms.stack}
            onSubmit={(event) => {
              event.preventDefault();
              act.mutate(deed);
            }}
          >
            <p>
              {deed === 'hold'
                ? 'Nothing of this person is forgotten before that day, by no rule and no order.'
                : 'When a second person confirms it, all that is held of this person is gone for good. Only who left can be forgotten.'}
            </p>
            <Field label="Reason" value={reason} onChange={setReason} required autoFocus />
            {deed === 'hold' && <Field label="Until (yyyy-mm-dd)" value={until} onChange={setUntil} required />}
            {act.isError && <Failure error={act.error} />}
            <DialogActions>
              <Button onPress={() => setDeed(undefined)}>Back</Button>
              <Button kind={deed === 'hold' ? 'main' : 'grave'} type="submit" isDisabled={act.isPending}>
                {deed === 'hold' ? 'Keep it' : 'Order it'}
              </Button>
            </DialogActions>
          </form>
        </Dialog>
      )}
    </section>
  );
}
