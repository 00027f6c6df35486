import { MutationCache, QueryCache } from '@tanstack/react-query';
import { useSyncExternalStore } from 'react';
import { Button } from './Button';
import style from './Troubles.module.css';

declare module '@tanstack/react-query' {
  interface Register {
    /** What it is, in words that begin a sentence; a page that shows a failure itself says nothing. */
    queryMeta: { what?: string };
    mutationMeta: { what?: string };
  }
}

interface Trouble {
  what: string;
  why: string;
}

let troubles: readonly Trouble[] = [];
const listeners = new Set<() => void>();

function set(next: readonly Trouble[]) {
  troubles = next;
  for (const listener of listeners) listener();
}

const listen = (listener: () => void) => {
  listeners.add(listener);
  return () => listeners.delete(listener);
};

const without = (what: string) => troubles.filter((t) => t.what !== what);

function tell(what: unknown, did: string, error: Error) {
  if (typeof what === 'string') set([...without(`${what} ${did}`), { what: `${what} ${did}`, why: error.message }]);
}

function untell(what: unknown, did: string) {
  if (typeof what === 'string' && troubles.some((t) => t.what === `${what} ${did}`)) set(without(`${what} ${did}`));
}

const unread = 'could not be read';
const undone = 'was not done';

/** Failed queries and changes that no page shows in its own place are told at the foot of every page. */
export const queryCache = (also: (error: Error) => void) =>
  new QueryCache({
    onError: (error, query) => {
      tell(query.meta?.what, unread, error);
      also(error);
    },
    onSuccess: (_, query) => untell(query.meta?.what, unread),
  });

export const mutationCache = () =>
  new MutationCache({
    onError: (error, _, __, mutation) => tell(mutation.meta?.what, undone, error),
    onSuccess: (_, __, ___, mutation) => untell(mutation.meta?.what, undone),
  });

export function Troubles() {
  const shown = useSyncExternalStore(listen, () => troubles);
  return (
    <div className={style.troubles} aria-live="assertive">
      {shown.map((t) => (
        <p key={t.what}>
          <span>
            <b>{t.what}.</b> {t.why}
          </span>
          <Button kind="quiet" aria-label={`Close: ${t.what}`} onPress={() => set(without(t.what))}>
            Close
          </Button>
        </p>
      ))}
    </div>
  );
}
