import { linkOptions } from '@tanstack/react-router';
import { allEntries } from '../rooms/ledger/LedgerPage';
import { allRequests } from '../rooms/requests/requestSearch';

/** A section of the book: its word, the key after g that goes there, and who sees it; everybody, if nobody is named. */
const section = <L>(word: string, key: string, link: L, ...roles: string[]) => ({ word, key, link, roles });

export const sections = [
  section('Today', 't', linkOptions({ to: '/' })),
  section('Inbox', 'i', linkOptions({ to: '/inbox' })),
  section('Requests', 'r', linkOptions({ to: '/requests', search: allRequests })),
  section('People', 'p', linkOptions({ to: '/people', search: { text: undefined, site: undefined } })),
  section('Desk', 'd', linkOptions({ to: '/desk', search: { task: undefined } }), 'operator'),
  section('Workflows', 'w', linkOptions({ to: '/workflows' })),
  section('Targets', 'a', linkOptions({ to: '/targets' }), 'operator', 'engineer'),
  section('Sources', 's', linkOptions({ to: '/sources' }), 'requester', 'operator', 'engineer'),
  section('Rulebook', 'b', linkOptions({ to: '/rulebook', search: { file: undefined, view: undefined } }), 'engineer'),
  section('Ledger', 'l', linkOptions({ to: '/ledger', search: allEntries }), 'auditor', 'engineer'),
  section('Service', 'v', linkOptions({ to: '/service' }), 'auditor', 'engineer'),
];

/** Where a new request is raised. */
export const newRequest = linkOptions({ to: '/requests/new', search: { kind: undefined, person: undefined, copy: undefined } });

/** True when somebody with these roles sees the section. */
export const isSeen = (roles: string[], of: { roles: string[] }) => of.roles.length === 0 || of.roles.some((role) => roles.includes(role));
