import { api, ask } from '../api/client';

let isLeaving = false;

/**
 * Leads to the sign-in page, and back here afterwards. It is loaded whole, so that nothing that was read for one user stays for the
 * next; the first who leads there wins.
 */
export function leadToSignIn() {
  if (isLeaving || location.pathname === '/sign-in') return;
  isLeaving = true;
  location.assign(`/sign-in?onward=${encodeURIComponent(location.pathname + location.search)}`);
}

/** Ends the session and leads to the way in. What the page still asks meanwhile is refused, and must not lead elsewhere. */
export async function signOut() {
  isLeaving = true;
  try {
    await ask(api.POST('/api/v1/sign-out'));
  } catch (refusal) {
    isLeaving = false;
    throw refusal;
  }
  location.assign('/sign-in');
}
