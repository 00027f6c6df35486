import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useParams } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask } from '../../api/client';
import { Button } from '../../parts/Button';
import { Field } from '../../parts/Field';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { at } from '../../parts/when';
import { useTheme } from '../../shell/useTheme';
import style from './SignInPage.module.css';

/** Where the one-time link of a mail leads: its owner chooses their password. */
export function PasswordPage() {
  useTheme();
  const { token } = useParams({ from: '/password/$token' });
  const [password, setPassword] = useState('');
  const [again, setAgain] = useState('');
  const params = { path: { token } };
  const link = useQuery({
    queryKey: ['password-link', token],
    queryFn: () => ask(api.GET('/api/v1/password-links/{token}', { params })),
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const save = useMutation({ mutationFn: () => ask(api.POST('/api/v1/password-links/{token}', { params, body: { password } })) });
  const differ = again !== '' && again !== password;
  return (
    <main className={style.page}>
      <form
        className={style.sheet}
        onSubmit={(event) => {
          event.preventDefault();
          if (!differ) save.mutate();
        }}
      >
        <h1>
          <img src="/icon.svg" alt="" width="34" height="34" /> Your password
        </h1>
        {link.isPending && <Loading what="The link" />}
        {link.isError && (
          <>
            <Failure error={link.error} />
            <Link to="/sign-in" search={{ onward: undefined, refused: undefined }}>
              To the sign-in
            </Link>
          </>
        )}
        {save.isSuccess && (
          <>
            <Notice tone="good" title="Your password is set">
              Wherever you were signed in before, you no longer are.
            </Notice>
            <Link to="/sign-in" search={{ onward: undefined, refused: undefined }}>
              Sign in with it
            </Link>
          </>
        )}
        {link.data && !save.isSuccess && (
          <>
            <p>
              {link.data.display}, choose the password of <b>{link.data.name}</b>: 10 characters or more. The link works once, until{' '}
              {at(link.data.expiresAt)}.
            </p>
            {save.isError && <Failure error={save.error} />}
            <input type="text" name="username" autoComplete="username" value={link.data.name} readOnly hidden />
            <Field
              label="New password"
              type="password"
              value={password}
              onChange={setPassword}
              required
              autoFocus
              autoComplete="new-password"
            />
            <Field label="The same again" type="password" value={again} onChange={setAgain} required autoComplete="new-password" />
            {differ && <p role="status">The two are not the same yet.</p>}
            <Button kind="main" type="submit" isDisabled={save.isPending || differ || again === ''}>
              Set it
            </Button>
          </>
        )}
      </form>
    </main>
  );
}
