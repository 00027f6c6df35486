import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type Schemas } from '../../api/client';
import { Button } from '../../parts/Button';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Field } from '../../parts/Field';
import { Failure, Notice } from '../../parts/Notice';
import { agoText } from '../../parts/when';
import rooms from '../common/Rooms.module.css';
import { useCatalogue } from '../common/words';
import { everywhere, type Limits, limitsOf, partsOf, reachOf } from './reach';
import style from './Users.module.css';

type User = Schemas['User'];

const roles: [string, string][] = [
  ['requester', 'asks for people'],
  ['approver', 'decides where nobody else is named'],
  ['operator', 'releases and repairs'],
  ['engineer', 'keeps rulebook, sources and users'],
  ['auditor', 'sees all, changes nothing'],
];

/** Who may sign in, with which roles, and where these reach. */
export function Users() {
  const [open, setOpen] = useState<User | 'new'>();
  const list = useQuery({ queryKey: ['users'], queryFn: () => ask(api.GET('/api/v1/users')) });
  const [waits, setWaits] = useState('');
  return (
    <section className={rooms.sheet} aria-labelledby="users">
      <div className={rooms.line}>
        <h2 id="users">Who may sign in</h2>
        <Button onPress={() => setOpen('new')}>Add a user</Button>
      </div>
      {list.isError && <Failure error={list.error} />}
      <div className={style.waiting}>
        {waits && (
          <Notice title="It waits for another engineer">
            The change of {waits} gives more than there was, so a second engineer agrees to it first. It stands below.
          </Notice>
        )}
        <WaitingChanges />
      </div>
      <table className={`${rooms.grants} ${style.table}`}>
        <thead>
          <tr>
            <th scope="col">User</th>
            <th scope="col">Person</th>
            <th scope="col">Roles</th>
            <th scope="col">Sign-in</th>
          </tr>
        </thead>
        <tbody>
          {list.data?.items.map((u) => (
            <tr key={u.name}>
              <td>
                <Button kind="quiet" onPress={() => setOpen(u)}>
                  {u.display}
                </Button>{' '}
                <span className={rooms.quiet}>{u.name}</span>
              </td>
              <td>{u.number ?? '–'}</td>
              <td>
                {u.roles.length === 0 && '–'}
                {u.roles.map((role) => {
                  const parts = partsOf(limitsOf(u.reach?.[role]));
                  return (
                    <div key={role}>
                      {role} {parts.length > 0 && <span className={rooms.quiet}>only {parts.join(', ')}</span>}
                    </div>
                  );
                })}
              </td>
              <td>{u.active ? (ways[u.way] ?? u.way) : 'ended'}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {open && (
        <UserForm
          key={open === 'new' ? '' : open.name}
          user={open === 'new' ? undefined : open}
          close={() => setOpen(undefined)}
          waits={setWaits}
        />
      )}
    </section>
  );
}

/** How a user signs in. */
const ways: Record<string, string> = {
  password: 'by password',
  'link-sent': 'was sent a link',
  openid: 'by the organisation',
};

/** Changes that give more wait until another engineer agrees. */
function WaitingChanges() {
  const queries = useQueryClient();
  const [declined, setDeclined] = useState<Schemas['UserChange']>();
  const [reason, setReason] = useState('');
  const list = useQuery({ queryKey: ['users', 'changes'], queryFn: () => ask(api.GET('/api/v1/users/changes')), refetchInterval: 20_000 });
  const after = () => {
    setDeclined(undefined);
    setReason('');
    return queries.invalidateQueries({ queryKey: ['users'] });
  };
  const agree = useMutation({
    mutationFn: (id: string) => ask(api.POST('/api/v1/users/changes/{id}/agree', { params: { path: { id } } })),
    onSuccess: after,
  });
  const decline = useMutation({
    mutationFn: (id: string) => ask(api.POST('/api/v1/users/changes/{id}/decline', { params: { path: { id } }, body: { remark: reason } })),
    onSuccess: after,
  });
  const failed = list.error ?? agree.error;
  return (
    <>
      {failed && <Failure error={failed} />}
      {list.data?.items.map((change) => (
        <Notice key={change.id} title={change.isNew ? `${change.user}, a new user, waits` : `A change of ${change.user} waits`}>
          <p>
            {change.askedBy} asks for it, {agoText(change.at)}.
          </p>
          <table className={rooms.attributes}>
            <tbody>
              {change.changes.map((c) => (
                <tr key={c.name}>
                  <th scope="row">{c.name}</th>
                  <td>{c.before.length > 0 && <del>{c.before.join(', ')}</del>}</td>
                  <td>{c.after.length > 0 ? <ins>{c.after.join(', ')}</ins> : 'taken away'}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <div className={rooms.actions}>
            {change.mayAgree && (
              <Button kind="main" onPress={() => agree.mutate(change.id)} isDisabled={agree.isPending}>
                Agree
              </Button>
            )}
            <Button onPress={() => setDeclined(change)}>{change.mayAgree ? 'Decline' : 'Take back'}</Button>
            {!change.mayAgree && <span className={rooms.quiet}>Another engineer agrees to it.</span>}
          </div>
        </Notice>
      ))}
      {declined && (
        <Dialog title={`Decline the change of ${declined.user}`} isOpen close={() => setDeclined(undefined)}>
          <form
            className={rooms.stack}
            onSubmit={(event) => {
              event.preventDefault();
              decline.mutate(declined.id);
            }}
          >
            <Field label="Reason" value={reason} onChange={setReason} required autoFocus />
            {decline.isError && <Failure error={decline.error} />}
            <DialogActions>
              <Button onPress={() => setDeclined(undefined)}>Back</Button>
              <Button kind="grave" type="submit" isDisabled={decline.isPending}>
                Decline
              </Button>
            </DialogActions>
          </form>
        </Dialog>
      )}
    </>
  );
}

function UserForm({ user, close, waits }: { user: User | undefined; close: () => void; waits: (name: string) => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState(user?.name ?? '');
  const [display, setDisplay] = useState(user?.display ?? '');
  const [mail, setMail] = useState(user?.mail ?? '');
  const [number, setNumber] = useState(user?.number ?? '');
  const [active, setActive] = useState(user?.active ?? true);
  const [held, setHeld] = useState<string[]>(user?.roles ?? []);
  const [limits, setLimits] = useState<Record<string, Limits>>(
    Object.fromEntries(roles.map(([role]) => [role, limitsOf(user?.reach?.[role])])),
  );
  const save = useMutation({
    mutationFn: () =>
      ask(
        api.PUT('/api/v1/users/{name}', {
          params: { path: { name } },
          body: { display, mail, number: number || null, roles: held, active, reach: reachOf(held, limits) },
        }),
      ),
    onSuccess: (saved) => {
      waits(saved.waits ? name : '');
      void queries.invalidateQueries({ queryKey: ['users'] });
      close();
    },
  });
  const link = useMutation({ mutationFn: () => ask(api.POST('/api/v1/users/{name}/link', { params: { path: { name } } })) });
  const toggle = (role: string) => setHeld(held.includes(role) ? held.filter((r) => r !== role) : [...held, role]);
  return (
    <Dialog title={user ? `${user.display} (${user.name})` : 'A new user'} isOpen close={close} wide>
      <form
        className={rooms.stack}
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate();
        }}
      >
        <div className={rooms.halves}>
          {!user && <Field label="User name" value={name} onChange={setName} required autoFocus autoComplete="off" />}
          <Field label="Name others see" value={display} onChange={setDisplay} required />
          <Field label="Mail" value={mail} onChange={setMail} />
          <Field label="Employee number of the person this is" value={number} onChange={setNumber} />
        </div>
        <fieldset className={style.roles}>
          <legend>Roles</legend>
          {roles.map(([role, what]) => (
            <div key={role}>
              <label>
                <input type="checkbox" checked={held.includes(role)} onChange={() => toggle(role)} /> {role}{' '}
                <span className={rooms.quiet}>{what}</span>
              </label>
              {held.includes(role) && (
                <Where limits={limits[role] ?? everywhere} change={(to) => setLimits({ ...limits, [role]: to })} role={role} />
              )}
            </div>
          ))}
        </fieldset>
        {user && (
          <label>
            <input type="checkbox" checked={active} onChange={(e) => setActive(e.target.checked)} /> may sign in
          </label>
        )}
        <p className={rooms.quiet}>
          {user
            ? 'Nobody sets the password of somebody else: a link goes to their mail address, by which they choose one.'
            : 'A link goes to the mail address, by which they choose their password.'}
        </p>
        {save.isError && <Failure error={save.error} />}
        {link.isError && <Failure error={link.error} />}
        {link.isSuccess && <Notice tone="good" title={`A link is on its way to ${user?.mail}`} />}
        <DialogActions>
          <Button onPress={close}>Back</Button>
          {user?.active && user.way !== 'openid' && (
            <Button onPress={() => link.mutate()} isDisabled={link.isPending}>
              Send a link
            </Button>
          )}
          <Button kind="main" type="submit" isDisabled={save.isPending}>
            {user ? 'Keep' : 'Add'}
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}

/** The part of the organisation to which a role is limited; nothing chosen means everywhere. */
function Where({ role, limits, change }: { role: string; limits: Limits; change: (limits: Limits) => void }) {
  const catalogue = useCatalogue();
  const targets = useQuery({
    meta: { what: 'The targets' },
    queryKey: ['targets'],
    queryFn: () => ask(api.GET('/api/v1/targets')),
    staleTime: 60_000,
  });
  const parts = partsOf(limits);
  const kinds: [keyof Limits, string, [string, string][]][] = [
    ['sites', 'Sites', (catalogue.data?.sites ?? []).map((s) => [s.name, s.value])],
    ['departments', 'Departments', (catalogue.data?.departments ?? []).map((d) => [d, d])],
    ['targets', 'Targets', (targets.data?.items ?? []).map((t) => [t.name, t.title])],
  ];
  return (
    <details className={style.where} open={parts.length > 0}>
      <summary>{parts.length === 0 ? 'everywhere' : `only ${parts.join(', ')}`}</summary>
      {kinds.map(([kind, title, choices]) => (
        <fieldset key={kind} aria-label={`${title} of ${role}`}>
          <legend>{title}</legend>
          {choices.map(([key, word]) => (
            <label key={key}>
              <input
                type="checkbox"
                checked={limits[kind].includes(key)}
                onChange={(e) =>
                  change({ ...limits, [kind]: e.target.checked ? [...limits[kind], key] : limits[kind].filter((k) => k !== key) })
                }
              />{' '}
              {word}
            </label>
          ))}
        </fieldset>
      ))}
    </details>
  );
}
