import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask } from '../../api/client';
import { Button } from '../../parts/Button';
import { Choice, Field } from '../../parts/Field';
import { Failure, Notice } from '../../parts/Notice';
import { agoText } from '../../parts/when';
import { useMe } from '../../shell/Shell';
import rooms from '../common/Rooms.module.css';
import { Retention } from '../people/Retention';
import { Users } from './Users';

/** What an engineer keeps in order: users, the texts of notices, systems that are told of changes, and who is signed in. */
export function ServicePage() {
  const me = useMe();
  const is = (role: string) => me.data?.roles.includes(role) ?? false;
  const keeps = is('engineer');
  return (
    <>
      <header className={rooms.head}>
        <h1>Service</h1>
        <p>
          {keeps
            ? 'Users, what is kept and how long, texts of notices, systems that hear of changes, and who is signed in.'
            : 'What is kept of whom, and how long.'}
        </p>
      </header>
      <div className={rooms.stack}>
        {keeps && <Users />}
        {(keeps || is('auditor')) && <Retention />}
        {keeps && (
          <>
            <NoticeTexts />
            <Hooks />
            <Sessions />
          </>
        )}
      </div>
    </>
  );
}

function NoticeTexts() {
  const [event, setEvent] = useState('decide');
  const [subject, setSubject] = useState<string>();
  const [text, setText] = useState<string>();
  const list = useQuery({
    meta: { what: 'The texts of notices' },
    queryKey: ['notice-templates'],
    queryFn: () => ask(api.GET('/api/v1/notices/templates')),
  });
  const known = list.data?.items.find((t) => t.event === event);
  const changed = subject !== undefined || text !== undefined;
  const look = useMutation({
    mutationFn: (sendToMe: boolean) =>
      ask(api.POST('/api/v1/notices/preview', { body: { event, subject: subject ?? null, text: text ?? null, sendToMe } })),
  });
  const choose = (next: string) => {
    setEvent(next);
    setSubject(undefined);
    setText(undefined);
    look.reset();
  };
  return (
    <section className={rooms.sheet} aria-labelledby="texts">
      <h2 id="texts">Texts of notices</h2>
      <p className={rooms.quiet}>
        Try a wording here with example values; to keep it, put it into <code>notices/{event}.yaml</code> of the rulebook.
      </p>
      <div className={rooms.halves}>
        <form
          className={rooms.stack}
          onSubmit={(e) => {
            e.preventDefault();
            look.mutate(false);
          }}
        >
          <Choice
            label="About"
            value={event}
            options={(list.data?.items ?? []).map((t) => [t.event, `${t.event}${t.builtIn ? '' : ' (of the rulebook)'}`])}
            onChange={choose}
          />
          <Field label="Subject" value={subject ?? known?.subject ?? ''} onChange={setSubject} />
          <Field label="Text" value={text ?? known?.text ?? ''} onChange={setText} long />
          {look.isError && <Failure error={look.error} />}
          <div className={rooms.actions}>
            <Button kind="main" type="submit" isDisabled={look.isPending}>
              Preview
            </Button>
            <Button onPress={() => look.mutate(true)} isDisabled={look.isPending}>
              Send it to me
            </Button>
            {changed && (
              <Button kind="quiet" onPress={() => choose(event)}>
                As it was
              </Button>
            )}
          </div>
        </form>
        <div className={rooms.stack} aria-live="polite">
          {look.data ? (
            <>
              {look.data.sent && (
                <Notice tone="good" title="Sent">
                  It is on its way to your mail address.
                </Notice>
              )}
              <b>{look.data.subject}</b>
              <div className={rooms.mail}>{look.data.text}</div>
            </>
          ) : (
            <p className={rooms.quiet}>The preview shows here.</p>
          )}
        </div>
      </div>
    </section>
  );
}

function Hooks() {
  const queries = useQueryClient();
  const [address, setAddress] = useState('');
  const [secret, setSecret] = useState('');
  const [kinds, setKinds] = useState('request.');
  const list = useQuery({
    meta: { what: 'The hooks' },
    queryKey: ['hooks'],
    queryFn: () => ask(api.GET('/api/v1/hooks')),
    refetchInterval: 10_000,
  });
  const after = () => queries.invalidateQueries({ queryKey: ['hooks'] });
  const add = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/hooks', { body: { address, secret, kinds: kinds.split(/[\s,]+/).filter(Boolean) } })),
    onSuccess: () => {
      setAddress('');
      setSecret('');
      return after();
    },
  });
  const end = useMutation({
    mutationFn: (id: string) => ask(api.DELETE('/api/v1/hooks/{id}', { params: { path: { id } } })),
    onSuccess: after,
  });
  const replay = useMutation({
    mutationFn: (id: string) => ask(api.POST('/api/v1/hooks/{id}/replay', { params: { path: { id } }, body: { position: 0 } })),
    onSuccess: after,
  });
  const hooks = (list.data?.items ?? []).filter((h) => h.active);
  return (
    <section className={rooms.sheet} aria-labelledby="hooks">
      <h2 id="hooks">Systems that hear of changes</h2>
      <p className={rooms.quiet}>Each gets signed CloudEvents from the sealed ledger, in order, and again until it answers.</p>
      {hooks.length === 0 && <p>None yet.</p>}
      <ul className={rooms.list}>
        {hooks.map((hook) => (
          <li key={hook.id} className={rooms.line}>
            <span>
              <b>{hook.address}</b> hears of {hook.kinds.join(', ')}
              <br />
              <span className={rooms.quiet}>
                {hook.problem
                  ? `Does not answer, tried ${hook.attempts} times: ${hook.problem}`
                  : hook.sentAt
                    ? `Told up to entry ${hook.nextPosition}, the last time ${agoText(hook.sentAt)}`
                    : `Waits for entries from ${hook.nextPosition} on`}
              </span>
            </span>
            <span className={rooms.line}>
              <Button onPress={() => replay.mutate(hook.id)}>Tell all again</Button>
              <Button kind="grave" onPress={() => end.mutate(hook.id)}>
                End
              </Button>
            </span>
          </li>
        ))}
      </ul>
      {end.isError && <Failure error={end.error} />}
      {replay.isError && <Failure error={replay.error} />}
      <form
        className={rooms.stack}
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <div className={rooms.halves}>
          <Field label="Address (https://…)" value={address} onChange={setAddress} required />
          <Field label="Kinds, such as request.completed, or a prefix" value={kinds} onChange={setKinds} />
        </div>
        <Field
          label="Secret that signs, 16 characters or more"
          type="password"
          value={secret}
          onChange={setSecret}
          required
          autoComplete="off"
        />
        {add.isError && <Failure error={add.error} />}
        <div className={rooms.actions}>
          <Button type="submit" isDisabled={add.isPending}>
            Add
          </Button>
        </div>
      </form>
    </section>
  );
}

function Sessions() {
  const queries = useQueryClient();
  const list = useQuery({ meta: { what: 'The sessions' }, queryKey: ['all-sessions'], queryFn: () => ask(api.GET('/api/v1/sessions')) });
  const end = useMutation({
    mutationFn: (id: string) => ask(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['all-sessions'] }),
  });
  return (
    <section className={rooms.sheet} aria-labelledby="all-sessions">
      <h2 id="all-sessions">Who is signed in</h2>
      {end.isError && <Failure error={end.error} />}
      <table className={rooms.grants}>
        <thead>
          <tr>
            <th scope="col">User</th>
            <th scope="col">From</th>
            <th scope="col">How</th>
            <th scope="col">Seen</th>
            <th scope="col">
              <span className="unseen">End</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {list.data?.items.map((s) => (
            <tr key={s.id}>
              <td>
                <b>{s.user}</b>
              </td>
              <td>{s.address}</td>
              <td>{s.way}</td>
              <td>{agoText(s.seen)}</td>
              <td>
                {s.current ? <span className={rooms.quiet}>this browser</span> : <Button onPress={() => end.mutate(s.id)}>End</Button>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
