import { useQuery } from '@tanstack/react-query';
import { api, ask } from '../../api/client';
import { useMe } from '../../shell/Shell';

/** Puts the names of people in the place of their user names, in a list such as "mara, tomas"; other words stay. */
export const namedBy = (users: { name: string; display: string }[]) => (list: string) =>
  list
    .split(', ')
    .map((one) => users.find((u) => u.name === one)?.display ?? one)
    .join(', ');

/** Users one can sign in as, beside oneself; kept for a minute. */
export const useUsers = () =>
  useQuery({
    queryKey: ['delegations', 'candidates'],
    queryFn: () => ask(api.GET('/api/v1/delegations/candidates')),
    staleTime: 60_000,
  });

export function useNamed(): (list: string) => string {
  const me = useMe().data;
  const users = useUsers().data?.items ?? [];
  return namedBy(me ? [...users, { name: me.name, display: me.display }] : users);
}

/** The same within a sentence: user names in brackets, and at its beginning. */
export const spelledBy = (named: (list: string) => string, sentence: string) => {
  const text = sentence.replace(/\(([^()]*)\)/g, (_, list: string) => `(${named(list)})`);
  const first = text.split(' ', 1)[0] ?? '';
  const name = named(first.charAt(0).toLowerCase() + first.slice(1));
  return name.toLowerCase() === first.toLowerCase() ? text : name + text.slice(first.length);
};

/** Somebody by name; the user name shows when one points at it. */
export function Who({ user }: { user: string }) {
  const name = useNamed()(user);
  return <span title={name === user ? undefined : user}>{name}</span>;
}
