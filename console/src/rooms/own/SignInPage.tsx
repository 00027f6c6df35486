import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate, useSearch } from '@tanstack/react-router';
import { type FormEvent, useState } from 'react';
import { api, ask } from '../../api/client';
import { Button } from '../../parts/Button';
import { Field } from '../../parts/Field';
import { Failure, Notice } from '../../parts/Notice';
import { useTheme } from '../../shell/useTheme';
import style from './SignInPage.module.css';

/** Why the organisation's sign-in was refused, by the code it came back with. */
const refusals: Record<string, string> = {
  'name-taken': 'There is another user of your name here. Ask an engineer to give that one another.',
  'no-role': 'Your organisation gives you no role here. Ask an engineer.',
  'person-has-user': 'You sign in here in another way already.',
  ended: 'Your access here has ended.',
};

export function SignInPage() {
  useTheme();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const { onward, refused } = useSearch({ from: '/sign-in' });
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const [error, setError] = useState<Error>();
  const [busy, setBusy] = useState(false);
  const [forgotten, setForgotten] = useState<'asked' | 'sent'>();

  const ways = useQuery({
    meta: { what: 'The ways to sign in' },
    queryKey: ['ways'],
    queryFn: async () => (await (await fetch('/health/ready')).json()) as { openId?: boolean },
    retry: false,
  });

  const submit = async (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    setError(undefined);
    try {
      await ask(api.POST('/api/v1/sign-in', { body: { name, password } }));
      queries.clear();
      await navigate({ href: onward ?? '/' });
    } catch (refusal) {
      setError(refusal as Error);
      setPassword('');
    } finally {
      setBusy(false);
    }
  };

  const forgot = async () => {
    setError(undefined);
    try {
      await ask(api.POST('/api/v1/password-links', { body: { name } }));
      setForgotten('sent');
    } catch (refusal) {
      setError(refusal as Error);
    }
  };

  return (
    <main className={style.page}>
      <form className={style.sheet} onSubmit={(event) => void submit(event)}>
        <h1>
          <img src="/icon.svg" alt="" width="34" height="34" /> Oikonom
        </h1>
        <p>The right access at the right time, and the book that shows it.</p>
        {error && <Failure error={error} />}
        {refused && !error && (
          <Notice tone="bad" title="You were not signed in">
            {refusals[refused] ?? 'Your organisation did not vouch for you. Try again, or ask an engineer.'}
          </Notice>
        )}
        {forgotten === 'sent' && (
          <Notice tone="good" title="Look into your mail">
            If there is such a user, a link by which you choose a new password is on its way.
          </Notice>
        )}
        <Field label="Name" value={name} onChange={setName} autoFocus required autoComplete="username" />
        <Field label="Password" value={password} onChange={setPassword} type="password" required autoComplete="current-password" />
        <Button kind="main" type="submit" isDisabled={busy}>
          {busy ? 'Signing in …' : 'Sign in'}
        </Button>
        <Button kind="quiet" onPress={() => (name === '' ? setForgotten('asked') : void forgot())}>
          I forgot my password
        </Button>
        {forgotten === 'asked' && name === '' && <p role="status">Enter your name first, then press it again.</p>}
        {ways.data?.openId && (
          <a href={`/api/v1/sign-in/openid?onward=${encodeURIComponent(onward ?? '/')}`}>Sign in by your organisation</a>
        )}
      </form>
    </main>
  );
}
