import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { useEffect, useState } from 'react';
import { api, ask } from '../../api/client';
import { Button } from '../../parts/Button';
import { Choice, Field } from '../../parts/Field';
import { Failure, Notice } from '../../parts/Notice';
import { ago, agoText, at } from '../../parts/when';
import { signOut } from '../../shell/leave';
import { useMe } from '../../shell/Shell';
import { useTheme } from '../../shell/useTheme';
import rooms from '../common/Rooms.module.css';
import { useNamed, useUsers } from '../common/Who';

/** What is one's own: notices, delegation while away, how to hear, where one is signed in, tokens. */
export function MePage() {
  const me = useMe();
  const theme = useTheme();
  return (
    <>
      <header className={rooms.head}>
        <div className={rooms.line}>
          <h1>{me.data?.display}</h1>
          <span className={rooms.actions}>
            <Button onPress={theme.toggle}>{theme.name === 'dark' ? 'Light' : 'Dark'}</Button>
            <Button onPress={() => void signOut()}>Sign out</Button>
          </span>
        </div>
        <p>
          {me.data?.roles.join(', ')}
          {me.data?.number ? ` · ${me.data.number}` : ''}
        </p>
      </header>
      <div className={rooms.columns}>
        <div className={rooms.stack}>
          <Delegations />
          <Notices />
          {me.data?.number && <OwnData number={me.data.number} />}
        </div>
        <aside className={rooms.stack}>
          <HearingForm />
          <PasswordForm />
          <SessionList />
          <TokenList />
        </aside>
      </div>
    </>
  );
}

function Delegations() {
  const queries = useQueryClient();
  const [to, setTo] = useState('');
  const [begins, setBegins] = useState(new Date().toISOString().slice(0, 10));
  const [ends, setEnds] = useState('');
  const [remark, setRemark] = useState('');
  const list = useQuery({
    meta: { what: 'Who decides for you' },
    queryKey: ['delegations'],
    queryFn: () => ask(api.GET('/api/v1/delegations')),
  });
  const who = useUsers();
  const named = useNamed();
  const after = () => queries.invalidateQueries({ queryKey: ['delegations'] });
  const add = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/delegations', { body: { to, begins, ends, kinds: null, remark: remark || null, from: null } })),
    onSuccess: () => {
      setTo('');
      return after();
    },
  });
  const end = useMutation({
    meta: { what: 'Ending the delegation' },
    mutationFn: (id: string) => ask(api.DELETE('/api/v1/delegations/{id}', { params: { path: { id } } })),
    onSuccess: after,
  });
  return (
    <section className={rooms.sheet} aria-labelledby="away">
      <h2 id="away">While I am away</h2>
      <p className={rooms.quiet}>Somebody else decides for you. Each decision shows both names; you may still decide yourself.</p>
      {list.data?.items.map((d) => (
        <p key={d.id} className={rooms.line}>
          <span>
            {d.mine ? `${named(d.to)} decides for you` : `You decide for ${named(d.from)}`}, {at(d.begins)} – {at(d.ends)}
            {d.kinds.length > 0 ? `, ${d.kinds.join(', ')}` : ''}
            {d.remark ? ` (${d.remark})` : ''}
          </span>
          <Button onPress={() => end.mutate(d.id)}>End</Button>
        </p>
      ))}
      <form
        className={rooms.stack}
        onSubmit={(event) => {
          event.preventDefault();
          add.mutate();
        }}
      >
        <Choice
          label="Who"
          value={to}
          options={[['', 'Choose…'], ...(who.data?.items ?? []).map((u): [string, string] => [u.name, u.display])]}
          onChange={setTo}
        />
        {who.isError && <Failure error={who.error} />}
        <Field label="From" type="date" value={begins} onChange={setBegins} required />
        <Field label="Until, that day included" type="date" value={ends} onChange={setEnds} required />
        <Field label="Why (may stay empty)" value={remark} onChange={setRemark} />
        {add.isError && <Failure error={add.error} />}
        <div className={rooms.actions}>
          <Button kind="main" type="submit" isDisabled={add.isPending || to === ''}>
            Hand over
          </Button>
        </div>
      </form>
    </section>
  );
}

function Notices() {
  const queries = useQueryClient();
  const list = useQuery({
    meta: { what: 'Your notices' },
    queryKey: ['notices'],
    queryFn: () => ask(api.GET('/api/v1/notices', { params: { query: { limit: 30 } } })),
  });
  const read = useMutation({
    meta: { what: 'Marking them read' },
    mutationFn: () => ask(api.POST('/api/v1/notices/read')),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['notices'] }),
  });
  const items = list.data?.items ?? [];
  return (
    <section className={rooms.sheet} aria-labelledby="notices">
      <header className={rooms.line}>
        <h2 id="notices">Notices</h2>
        {items.some((n) => !n.read) && <Button onPress={() => read.mutate()}>All read</Button>}
      </header>
      {items.length === 0 && <p className={rooms.quiet}>None yet.</p>}
      <ul className={rooms.list}>
        {items.map((n) => (
          <li key={n.id}>
            {n.requestId ? (
              <Link to="/requests/$id" params={{ id: n.requestId }} className={n.read ? undefined : rooms.chosen}>
                {n.read ? n.subject : <b>{n.subject}</b>}
              </Link>
            ) : (
              n.subject
            )}
            <span className={rooms.quiet}>
              {ago(n.at)} · {n.mailState === 'sent' ? 'mailed' : n.mailState === 'waits' ? 'mail waits' : 'no mail'}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function HearingForm() {
  const queries = useQueryClient();
  const [mail, setMail] = useState(true);
  const [digest, setDigest] = useState('none');
  const [from, setFrom] = useState('');
  const [until, setUntil] = useState('');
  const [zone, setZone] = useState(Intl.DateTimeFormat().resolvedOptions().timeZone);
  const hearing = useQuery({ meta: { what: 'How you hear' }, queryKey: ['hearing'], queryFn: () => ask(api.GET('/api/v1/me/hearing')) });
  useEffect(() => {
    if (!hearing.data) return;
    setMail(hearing.data.mail);
    setDigest(hearing.data.digest);
    setFrom(hearing.data.quietFrom?.toString() ?? '');
    setUntil(hearing.data.quietUntil?.toString() ?? '');
    // Who has chosen nothing yet is offered the clock on their wall.
    if (hearing.data.digest !== 'none' || hearing.data.quietFrom !== null) setZone(hearing.data.zone ?? 'UTC');
  }, [hearing.data]);
  const hour = (text: string) => (text.trim() === '' ? null : Number(text));
  const save = useMutation({
    mutationFn: () => ask(api.PUT('/api/v1/me/hearing', { body: { mail, digest, quietFrom: hour(from), quietUntil: hour(until), zone } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['hearing'] }),
  });
  return (
    <section className={rooms.sheet} aria-labelledby="hearing">
      <h2 id="hearing">How I want to hear</h2>
      <form
        className={rooms.stack}
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate();
        }}
      >
        <label>
          <input type="checkbox" checked={mail} onChange={(e) => setMail(e.target.checked)} /> by mail too
        </label>
        <Choice
          label="Mails"
          value={digest}
          options={[
            ['none', 'one by one'],
            ['hour', 'gathered each hour'],
            ['day', 'gathered each morning'],
          ]}
          onChange={setDigest}
        />
        <Field label="Quiet from hour" value={from} onChange={setFrom} />
        <Field label="until hour" value={until} onChange={setUntil} />
        <Field label="by the clock of" value={zone} onChange={setZone} />
        {save.isError && <Failure error={save.error} />}
        <div className={rooms.actions}>
          <Button type="submit" isDisabled={save.isPending}>
            {save.isSuccess ? 'Kept' : 'Keep'}
          </Button>
        </div>
      </form>
    </section>
  );
}

function PasswordForm() {
  const queries = useQueryClient();
  const [current, setCurrent] = useState('');
  const [next, setNext] = useState('');
  const change = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/me/password', { body: { current, new: next } })),
    onSuccess: () => {
      setCurrent('');
      setNext('');
      void queries.invalidateQueries({ queryKey: ['sessions'] });
      void queries.invalidateQueries({ queryKey: ['tokens'] });
    },
  });
  return (
    <section className={rooms.sheet} aria-labelledby="password">
      <h2 id="password">My password</h2>
      <form
        className={rooms.stack}
        onSubmit={(event) => {
          event.preventDefault();
          change.mutate();
        }}
      >
        <Field label="The present one" type="password" value={current} onChange={setCurrent} required autoComplete="current-password" />
        <Field
          label="The new one, 10 characters or more"
          type="password"
          value={next}
          onChange={setNext}
          required
          autoComplete="new-password"
        />
        {change.isError && <Failure error={change.error} />}
        {change.isSuccess && (
          <Notice tone="good" title="Changed">
            Every other session and every token of yours ended.
          </Notice>
        )}
        <div className={rooms.actions}>
          <Button type="submit" isDisabled={change.isPending || current === '' || next === ''}>
            Change it
          </Button>
        </div>
      </form>
    </section>
  );
}

/** Everybody can see all that is held of them. */
function OwnData({ number }: { number: string }) {
  return (
    <section className={rooms.sheet} aria-labelledby="held">
      <h2 id="held">What is held of me</h2>
      <p className={rooms.quiet}>The record, accounts, grants, requests and what was done with them, in one file.</p>
      <p>
        <a href={`/api/v1/people/${encodeURIComponent(number)}/data`} download={`${number}.json`}>
          Download all that is held of {number}
        </a>
      </p>
    </section>
  );
}

function SessionList() {
  const queries = useQueryClient();
  const list = useQuery({ meta: { what: 'Your sessions' }, queryKey: ['sessions'], queryFn: () => ask(api.GET('/api/v1/me/sessions')) });
  const end = useMutation({
    meta: { what: 'Ending the session' },
    mutationFn: (id: string) => ask(api.DELETE('/api/v1/me/sessions/{id}', { params: { path: { id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['sessions'] }),
  });
  return (
    <section className={rooms.sheet} aria-labelledby="sessions">
      <h2 id="sessions">Where I am signed in</h2>
      <ul className={rooms.list}>
        {list.data?.items.map((s) => (
          <li key={s.id} className={rooms.line}>
            <span>
              {s.current ? 'This browser' : s.address} <span className={rooms.quiet}>seen {agoText(s.seen)}</span>
            </span>
            {!s.current && <Button onPress={() => end.mutate(s.id)}>End</Button>}
          </li>
        ))}
      </ul>
    </section>
  );
}

function TokenList() {
  const queries = useQueryClient();
  const me = useMe();
  const [label, setLabel] = useState('');
  const [role, setRole] = useState('');
  const list = useQuery({ meta: { what: 'Your tokens' }, queryKey: ['tokens'], queryFn: () => ask(api.GET('/api/v1/me/tokens')) });
  const after = () => queries.invalidateQueries({ queryKey: ['tokens'] });
  const make = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/me/tokens', { body: { label, days: 90, roles: role ? [role] : null } })),
    onSuccess: after,
  });
  const end = useMutation({
    meta: { what: 'Ending the token' },
    mutationFn: (id: string) => ask(api.DELETE('/api/v1/me/tokens/{id}', { params: { path: { id } } })),
    onSuccess: after,
  });
  return (
    <section className={rooms.sheet} aria-labelledby="tokens">
      <h2 id="tokens">API tokens</h2>
      <ul className={rooms.list}>
        {list.data?.items.map((t) => (
          <li key={t.id} className={rooms.line}>
            <span>
              {t.label}{' '}
              <span className={rooms.quiet}>
                {t.roles.join(', ') || 'all roles'}, until {at(t.expiresAt)}
              </span>
            </span>
            <Button onPress={() => end.mutate(t.id)}>End</Button>
          </li>
        ))}
      </ul>
      <form
        className={rooms.stack}
        onSubmit={(event) => {
          event.preventDefault();
          make.mutate();
        }}
      >
        <Field label="Label of a new token (90 days)" value={label} onChange={setLabel} required />
        <Choice
          label="Limited to"
          value={role}
          options={[['', 'all my roles'], ...(me.data?.roles ?? []).map((r) => [r, r] as [string, string])]}
          onChange={setRole}
        />
        {make.isError && <Failure error={make.error} />}
        {make.data && (
          <Notice tone="good" title="Copy it now; it is not shown again">
            <code>{make.data.token}</code>
          </Notice>
        )}
        <div className={rooms.actions}>
          <Button type="submit" isDisabled={make.isPending || label.trim().length === 0}>
            Make it
          </Button>
        </div>
      </form>
    </section>
  );
}
