import { useNavigate } from '@tanstack/react-router';
import { useEffect } from 'react';
import { allEntries } from '../rooms/LedgerPage';
import { allRequests } from '../rooms/requestSearch';

/** True when the key press belongs to a field or a dialog. */
export function isTyping(event: KeyboardEvent): boolean {
  const at = event.target as HTMLElement | null;
  return (
    event.ctrlKey ||
    event.metaKey ||
    event.altKey ||
    !!at?.closest('input:not([type="checkbox"]):not([type="radio"]), textarea, select, [role="dialog"]') ||
    !!document.querySelector('[role="dialog"]')
  );
}

/** g then t, i, r, p, d, w, s, b, l, v or m goes to a section; n raises a request; / goes to the search field. */
export function useGoKeys() {
  const navigate = useNavigate();
  useEffect(() => {
    let armed = 0;
    const press = (event: KeyboardEvent) => {
      if (isTyping(event)) return;
      if (event.key === '/') {
        const field = document.querySelector<HTMLInputElement>('input[type="search"]');
        if (field) {
          event.preventDefault();
          field.focus();
        }
        return;
      }
      if (event.key === 'n' && !armed)
        void navigate({ to: '/requests/new', search: { kind: undefined, person: undefined, copy: undefined } });
      if (event.key === 'g') {
        armed = event.timeStamp;
        return;
      }
      if (armed && event.timeStamp - armed < 1200) {
        // The second key of a pair is nobody else's: "g r" opens the requests and releases nothing.
        event.stopPropagation();
        if (event.key === 't') void navigate({ to: '/' });
        if (event.key === 'v') void navigate({ to: '/service' });
        if (event.key === 'd') void navigate({ to: '/desk', search: { task: undefined } });
        if (event.key === 'w') void navigate({ to: '/workflows' });
        if (event.key === 'l') void navigate({ to: '/ledger', search: allEntries });
        if (event.key === 'm') void navigate({ to: '/me' });
        if (event.key === 'i') void navigate({ to: '/inbox' });
        if (event.key === 'r') void navigate({ to: '/requests', search: allRequests });
        if (event.key === 's') void navigate({ to: '/sources' });
        if (event.key === 'b') void navigate({ to: '/rulebook', search: { file: undefined, view: undefined } });
        if (event.key === 'p') void navigate({ to: '/people', search: { text: undefined, site: undefined } });
      }
      armed = 0;
    };
    window.addEventListener('keydown', press, { capture: true });
    return () => window.removeEventListener('keydown', press, { capture: true });
  }, [navigate]);
}
