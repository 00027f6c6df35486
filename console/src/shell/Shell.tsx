import { useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, Outlet } from '@tanstack/react-router';
import { useEffect } from 'react';
import { api, ask } from '../api/client';
import { listen } from '../api/live';
import { Button } from '../parts/Button';
import { Loading } from '../parts/Notice';
import { Troubles } from '../parts/Troubles';
import { Keys } from './Keys';
import { signOut } from './leave';
import style from './Shell.module.css';
import { isSeen, sections } from './sections';
import { useTheme } from './useTheme';

export const useMe = () => useQuery({ queryKey: ['me'], queryFn: () => ask(api.GET('/api/v1/me')), staleTime: 60_000 });

/** The frame of the book: its sections, who is signed in, and the live stream. */
export function Shell() {
  const queries = useQueryClient();
  const me = useMe();
  const signedIn = me.data !== undefined;
  const theme = useTheme();
  useEffect(() => (signedIn ? listen(queries) : undefined), [queries, signedIn]);
  const inbox = useQuery({
    meta: { what: 'Your inbox' },
    queryKey: ['requests', 'inbox', 'count'],
    queryFn: () => ask(api.GET('/api/v1/inbox/count')),
    enabled: signedIn,
  });

  if (!me.data) return <Loading what="Oikonom" />;
  const roles = me.data.roles;
  const waiting = inbox.data?.count ?? 0;
  return (
    <div className={style.frame}>
      <a className={style.skip} href="#content">
        Skip to the content
      </a>
      <header className={style.bar}>
        <Link to="/" className={style.mark}>
          <img src="/icon.svg" alt="" width="24" height="24" /> Oikonom
        </Link>
        <nav aria-label="Sections" className={style.sections}>
          {sections
            .filter((s) => isSeen(roles, s))
            .map((s) => (
              <Link key={s.key} {...s.link} activeOptions={{ exact: s.link.to === '/' }} activeProps={{ className: style.here }}>
                {s.word}
                {s.link.to === '/inbox' && waiting > 0 && (
                  <span className={style.count}>
                    {waiting}
                    <span className="unseen"> waiting</span>
                  </span>
                )}
              </Link>
            ))}
        </nav>
        <div className={style.who}>
          <Link to="/me" className={style.me}>
            <span className={style.initials} aria-hidden="true">
              {me.data.display
                .split(' ')
                .map((part) => part[0])
                .join('')
                .slice(0, 2)}
            </span>
            <span className={style.name}>
              {me.data.display}
              <small>{me.data.roles.join(', ')}</small>
            </span>
          </Link>
          <Button kind="quiet" onPress={theme.toggle}>
            {theme.name === 'dark' ? 'Light' : 'Dark'}
          </Button>
          <Button kind="quiet" onPress={() => void signOut()}>
            Sign out
          </Button>
        </div>
      </header>
      <main id="content" tabIndex={-1} className="page">
        <Outlet />
        <Troubles />
      </main>
      <Keys roles={roles} />
    </div>
  );
}
