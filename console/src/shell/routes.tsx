import type { QueryClient } from '@tanstack/react-query';
import { createRootRouteWithContext, createRoute, createRouter, Outlet } from '@tanstack/react-router';
import { DeskPage } from '../rooms/desk/DeskPage';
import { LedgerPage } from '../rooms/ledger/LedgerPage';
import { HandoverPage } from '../rooms/own/HandoverPage';
import { MePage } from '../rooms/own/MePage';
import { PasswordPage } from '../rooms/own/PasswordPage';
import { SignInPage } from '../rooms/own/SignInPage';
import { PeoplePage } from '../rooms/people/PeoplePage';
import { PersonPage } from '../rooms/people/PersonPage';
import { InboxPage } from '../rooms/requests/InboxPage';
import { NewRequestPage } from '../rooms/requests/NewRequestPage';
import { RequestPage } from '../rooms/requests/RequestPage';
import { RequestsPage } from '../rooms/requests/RequestsPage';
import { readSearch } from '../rooms/requests/requestSearch';
import { RolloutPage } from '../rooms/rulebook/RolloutPage';
import { RulebookPage } from '../rooms/rulebook/RulebookPage';
import { WorkflowsPage } from '../rooms/rulebook/WorkflowsPage';
import { ServicePage } from '../rooms/service/ServicePage';
import { SourcePage } from '../rooms/sources/SourcePage';
import { SourcesPage } from '../rooms/sources/SourcesPage';
import { TargetPage } from '../rooms/targets/TargetPage';
import { TargetsPage } from '../rooms/targets/TargetsPage';
import { TodayPage } from '../rooms/today/TodayPage';
import { NotFound } from './NotFound';
import { Shell } from './Shell';

const text = (value: unknown) => (typeof value === 'string' && value.length > 0 ? value : undefined);

const root = createRootRouteWithContext<{ queries: QueryClient }>()({ component: Outlet, notFoundComponent: NotFound });
const signIn = createRoute({
  getParentRoute: () => root,
  path: '/sign-in',
  component: SignInPage,
  // Only an address of our own is gone on to.
  validateSearch: (search: Record<string, unknown>) => ({
    onward: text(search.onward)?.match(/^\/(?![/\\])/) ? text(search.onward) : undefined,
    refused: text(search.refused),
  }),
});
const password = createRoute({ getParentRoute: () => root, path: '/password/$token', component: PasswordPage });
const shell = createRoute({ getParentRoute: () => root, id: 'shell', component: Shell });
const home = createRoute({
  getParentRoute: () => shell,
  path: '/',
  component: TodayPage,
});
const inbox = createRoute({ getParentRoute: () => shell, path: '/inbox', component: InboxPage });
const requests = createRoute({
  getParentRoute: () => shell,
  path: '/requests',
  component: RequestsPage,
  validateSearch: readSearch,
});
const newRequest = createRoute({
  getParentRoute: () => shell,
  path: '/requests/new',
  component: NewRequestPage,
  validateSearch: (search: Record<string, unknown>) => ({ kind: text(search.kind), person: text(search.person), copy: text(search.copy) }),
});
const desk = createRoute({
  getParentRoute: () => shell,
  path: '/desk',
  component: DeskPage,
  validateSearch: (search: Record<string, unknown>) => ({ task: text(search.task) }),
});
const workflows = createRoute({ getParentRoute: () => shell, path: '/workflows', component: WorkflowsPage });
const service = createRoute({ getParentRoute: () => shell, path: '/service', component: ServicePage });
const ledger = createRoute({
  getParentRoute: () => shell,
  path: '/ledger',
  component: LedgerPage,
  validateSearch: (search: Record<string, unknown>) => ({
    kind: text(search.kind),
    person: text(search.person),
    request: search.request === undefined ? undefined : String(search.request),
    actor: text(search.actor),
    entry: text(search.entry),
  }),
});
const own = createRoute({ getParentRoute: () => shell, path: '/me', component: MePage });
const request = createRoute({ getParentRoute: () => shell, path: '/requests/$id', component: RequestPage });
const people = createRoute({
  getParentRoute: () => shell,
  path: '/people',
  component: PeoplePage,
  validateSearch: (search: Record<string, unknown>) => ({ text: text(search.text), site: text(search.site) }),
});
const person = createRoute({ getParentRoute: () => shell, path: '/people/$id', component: PersonPage });
const handover = createRoute({ getParentRoute: () => shell, path: '/handover/$token', component: HandoverPage });

const sources = createRoute({ getParentRoute: () => shell, path: '/sources', component: SourcesPage });
const source = createRoute({ getParentRoute: () => shell, path: '/sources/$name', component: SourcePage });
const targets = createRoute({ getParentRoute: () => shell, path: '/targets', component: TargetsPage });
const target = createRoute({ getParentRoute: () => shell, path: '/targets/$name', component: TargetPage });
const rulebook = createRoute({
  getParentRoute: () => shell,
  path: '/rulebook',
  component: RulebookPage,
  validateSearch: (search: Record<string, unknown>) => ({ file: text(search.file), view: text(search.view) }),
});
const rollout = createRoute({
  getParentRoute: () => shell,
  path: '/rollouts/$id',
  component: RolloutPage,
  validateSearch: (search: Record<string, unknown>) => ({
    state: text(search.state),
    department: text(search.department),
    template: text(search.template),
    wave: search.wave === undefined ? undefined : Number(search.wave),
  }),
});

const tree = root.addChildren([
  signIn,
  password,
  shell.addChildren([
    home,
    inbox,
    requests,
    newRequest,
    request,
    desk,
    workflows,
    service,
    ledger,
    own,
    people,
    person,
    handover,
    sources,
    source,
    targets,
    target,
    rulebook,
    rollout,
  ]),
]);

export const makeRouter = (queries: QueryClient) => createRouter({ routeTree: tree, context: { queries }, scrollRestoration: true });

declare module '@tanstack/react-router' {
  interface Register {
    router: ReturnType<typeof makeRouter>;
  }
}
