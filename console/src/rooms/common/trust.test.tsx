// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { cleanup, fireEvent, render, screen, waitFor, within } from '@testing-library/react';
import type { ReactNode } from 'react';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';

type Answer = { status?: number; detail?: string; data?: unknown };

const { answers, calls } = vi.hoisted(() => ({
  answers: {} as Record<string, unknown>,
  calls: [] as { call: string; options: unknown }[],
}));

vi.mock('@tanstack/react-router', () => ({
  Link: ({ children }: { children: ReactNode }) => <a href="/">{children}</a>,
  linkOptions: (link: object) => link,
  useNavigate: () => vi.fn(),
  useParams: () => ({ token: 'one-time' }),
  useSearch: () => ({ onward: undefined, refused: 'no-role' }),
}));

vi.mock('../../api/client', async (original) => {
  const client = await original<typeof import('../../api/client')>();
  const method =
    (name: string) =>
    async (path: string, options?: unknown): Promise<Answer> => {
      calls.push({ call: `${name} ${path}`, options });
      const answer = answers[`${name} ${path}`];
      return (answer instanceof Error ? { status: 400, detail: answer.message } : { data: answer }) as Answer;
    };
  const ask = async (call: Promise<Answer>) => {
    const result = await call;
    if (result.status) throw new client.Refusal(result.status, 'refused', result.detail ?? '');
    return result.data;
  };
  return { ...client, ask, api: { GET: method('GET'), PUT: method('PUT'), POST: method('POST'), DELETE: method('DELETE') } };
});

const { Users } = await import('../service/Users');
const { Retention } = await import('../people/Retention');
const { PasswordPage } = await import('../own/PasswordPage');
const { SignInPage } = await import('../own/SignInPage');

const show = (page: ReactNode) =>
  render(<QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>{page}</QueryClientProvider>);
const called = (call: string) => calls.filter((c) => c.call === call);
const user = {
  name: 'mara',
  display: 'Mara Selkirk',
  mail: 'mara@northmere.example',
  roles: ['approver'],
  number: 'E1002',
  active: true,
  way: 'password',
};
const change = {
  id: 'c1',
  user: 'silas',
  askedBy: 'edda',
  at: '2026-11-26T10:00:00Z',
  isNew: true,
  mayAgree: true,
  changes: [{ name: 'roles', before: [], after: ['approver'] }],
};
const order = {
  id: 'o1',
  personId: 'p',
  number: 'E1044',
  name: 'Tamsin Birkeland',
  reason: 'in writing',
  askedBy: 'nora',
  at: '2026-11-26T10:00:00Z',
};

vi.setConfig({ testTimeout: 30_000 });

beforeEach(() => {
  // What a browser has and jsdom has not.
  vi.stubGlobal('matchMedia', () => ({ matches: false, addEventListener: () => {}, removeEventListener: () => {} }));
  vi.stubGlobal('CSS', { escape: (text: string) => text });
  vi.stubGlobal('fetch', async () => new Response('{"openId":false}'));
  calls.length = 0;
  for (const key of Object.keys(answers)) delete answers[key];
  Object.assign(answers, {
    'GET /api/v1/me': { name: 'edda', display: 'Edda', roles: ['engineer'], number: null },
    'GET /api/v1/users': { items: [user], next: null },
    'GET /api/v1/users/changes': { items: [change], next: null },
    'GET /api/v1/catalogue': { sites: [], departments: [] },
    'GET /api/v1/targets': { items: [] },
    'GET /api/v1/retention': { rule: null, powerfulRule: null, next: [], orders: [], holds: [] },
    'GET /api/v1/password-links/{token}': { name: 'silas', display: 'Silas', expiresAt: '2026-12-03T10:00:00Z' },
  });
});
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

describe('users', () => {
  it('shows what waits, and another engineer agrees', async () => {
    show(<Users />);
    expect(await screen.findByText('silas, a new user, waits')).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: 'Agree' }));
    await waitFor(() => expect(called('POST /api/v1/users/changes/{id}/agree')).toHaveLength(1));
    expect(called('POST /api/v1/users/changes/{id}/agree')[0]?.options).toEqual({ params: { path: { id: 'c1' } } });
  });

  it('lets who asked only take it back, with a reason', async () => {
    answers['GET /api/v1/users/changes'] = { items: [{ ...change, mayAgree: false }], next: null };
    show(<Users />);
    fireEvent.click(await screen.findByRole('button', { name: 'Take back' }));
    expect(screen.queryByRole('button', { name: 'Agree' })).toBeNull();
    const dialog = within(await screen.findByRole('dialog'));
    fireEvent.change(dialog.getByLabelText('Reason'), { target: { value: 'a mistake' } });
    fireEvent.click(dialog.getByRole('button', { name: 'Decline' }));
    await waitFor(() =>
      expect(called('POST /api/v1/users/changes/{id}/decline')[0]?.options).toMatchObject({ body: { remark: 'a mistake' } }),
    );
  });

  it('sets nobody’s password, and sends a link', async () => {
    show(<Users />);
    fireEvent.click(await screen.findByRole('button', { name: 'Mara Selkirk' }));
    const dialog = within(await screen.findByRole('dialog'));
    expect(dialog.queryByLabelText(/password/i)).toBeNull();
    fireEvent.click(dialog.getByRole('button', { name: 'Send a link' }));
    expect(await dialog.findByText('A link is on its way to mara@northmere.example')).toBeTruthy();
    expect(called('PUT /api/v1/users/{name}')).toHaveLength(0);
  });

  it('says when a change waits for another engineer', async () => {
    answers['PUT /api/v1/users/{name}'] = { user, waits: change };
    show(<Users />);
    fireEvent.click(await screen.findByRole('button', { name: 'Mara Selkirk' }));
    fireEvent.click(within(await screen.findByRole('dialog')).getByRole('button', { name: 'Keep' }));
    expect(await screen.findByText('It waits for another engineer')).toBeTruthy();
    expect(JSON.stringify(called('PUT /api/v1/users/{name}')[0]?.options)).not.toContain('password');
  });
});

describe('retention', () => {
  it('says that nothing is forgotten without a rule', async () => {
    show(<Retention />);
    expect(await screen.findByText(/has no rule of retention/)).toBeTruthy();
  });

  it('lets another confirm an order, and not who gave it', async () => {
    answers['GET /api/v1/retention'] = {
      rule: '2 years after the last employment',
      powerfulRule: null,
      next: [],
      orders: [order],
      holds: [],
    };
    show(<Retention />);
    fireEvent.click(await screen.findByRole('button', { name: 'Forget now' }));
    await waitFor(() => expect(called('POST /api/v1/retention/orders/{id}/confirm')).toHaveLength(1));
    cleanup();
    answers['GET /api/v1/me'] = { name: 'nora', display: 'Nora', roles: ['engineer'], number: null };
    show(<Retention />);
    expect(await screen.findByText('waits for a second person')).toBeTruthy();
    expect(screen.queryByRole('button', { name: 'Forget now' })).toBeNull();
  });

  it('lists who is next and what stops it, and ends a hold', async () => {
    answers['GET /api/v1/retention'] = {
      rule: '2 years after the last employment',
      powerfulRule: '6 years after the last employment',
      next: [
        { personId: 'p', number: 'E1044', name: 'Tamsin Birkeland', left: '2024-11-30', on: '2026-12-01', stops: ['a request is open'] },
      ],
      orders: [],
      holds: [
        {
          personId: 'p',
          number: 'E1044',
          name: 'Tamsin Birkeland',
          reason: 'A claim',
          until: '2027-12-31',
          by: 'aldo',
          at: '2026-11-26T10:00:00Z',
        },
      ],
    };
    show(<Retention />);
    expect(await screen.findByText('a request is open')).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: 'End the hold' }));
    await waitFor(() => expect(called('DELETE /api/v1/people/{id}/hold')[0]?.options).toEqual({ params: { path: { id: 'p' } } }));
  });

  it('tells a refusal in the service’s own words', async () => {
    answers['GET /api/v1/retention'] = { rule: null, powerfulRule: null, next: [], orders: [order], holds: [] };
    answers['POST /api/v1/retention/orders/{id}/confirm'] = new Error('Tamsin Birkeland cannot be forgotten: a request is open.');
    show(<Retention />);
    fireEvent.click(await screen.findByRole('button', { name: 'Forget now' }));
    expect(await screen.findByText('Tamsin Birkeland cannot be forgotten: a request is open.')).toBeTruthy();
  });
});

describe('a password by link', () => {
  it('is set when both are the same', async () => {
    show(<PasswordPage />);
    fireEvent.change(await screen.findByLabelText('New password'), { target: { value: 'a-good-long-one' } });
    fireEvent.change(screen.getByLabelText('The same again'), { target: { value: 'another-one' } });
    expect(screen.getByText('The two are not the same yet.')).toBeTruthy();
    expect((screen.getByRole('button', { name: 'Set it' }) as HTMLButtonElement).disabled).toBe(true);
    fireEvent.change(screen.getByLabelText('The same again'), { target: { value: 'a-good-long-one' } });
    fireEvent.click(screen.getByRole('button', { name: 'Set it' }));
    expect(await screen.findByText('Your password is set')).toBeTruthy();
    expect(called('POST /api/v1/password-links/{token}')[0]?.options).toEqual({
      params: { path: { token: 'one-time' } },
      body: { password: 'a-good-long-one' },
    });
  });

  it('is refused for a link that is over, and leads on', async () => {
    answers['GET /api/v1/password-links/{token}'] = new Error('There is no such link.');
    show(<PasswordPage />);
    expect(await screen.findByText('There is no such link.')).toBeTruthy();
    expect(screen.queryByLabelText('New password')).toBeNull();
    expect(screen.getByText('To the sign-in')).toBeTruthy();
  });

  it('is asked for by name alone, and the answer tells nothing', async () => {
    show(<SignInPage />);
    expect(await screen.findByText(/gives you no role here/)).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: 'I forgot my password' }));
    expect(screen.getByText(/Enter your name first/)).toBeTruthy();
    expect(called('POST /api/v1/password-links')).toHaveLength(0);
    fireEvent.change(screen.getByLabelText('Name'), { target: { value: 'nobody-at-all' } });
    fireEvent.click(screen.getByRole('button', { name: 'I forgot my password' }));
    expect(await screen.findByText(/If there is such a user/)).toBeTruthy();
    expect(called('POST /api/v1/password-links')[0]?.options).toEqual({ body: { name: 'nobody-at-all' } });
  });
});
