import type { NewRequest } from '../api/client';

export type Kind = 'joiner' | 'mover' | 'leaver' | 'access' | 'extension' | 'change' | 'account' | 'password' | 'unlock';

export const kindTitles: [Kind, string][] = [
  ['joiner', 'Joiner'],
  ['access', 'Access'],
  ['extension', 'Extension'],
  ['mover', 'Mover'],
  ['leaver', 'Leaver'],
  ['change', 'Change'],
  ['account', 'On request'],
  ['password', 'Password'],
  ['unlock', 'Unlock'],
];

/** What the form holds; only what belongs to the kind is sent. */
export interface Asking {
  kind: Kind;
  person: string;
  reason: string;
  record: Record<string, string>;
  entitlements: string[];
  from: string;
  until: string;
  template: string;
  target: string;
  lastDay: string;
  urgent: boolean;
}

export const nothingAsked: Asking = {
  kind: 'joiner',
  person: '',
  reason: '',
  record: {},
  entitlements: [],
  from: '',
  until: '',
  template: '',
  target: '',
  lastDay: '',
  urgent: false,
};

const filled = (record: Record<string, string>) =>
  Object.fromEntries(Object.entries(record).filter(([, value]) => value.trim().length > 0));

/** The body of a call from what the form holds. */
export function bodyOf(asking: Asking): NewRequest {
  const { kind } = asking;
  const body: NewRequest = {
    kind,
    person: null,
    reason: asking.reason.trim() || null,
    record: null,
    grants: null,
    target: null,
    template: null,
    from: null,
    until: null,
    lastDay: null,
    urgent: null,
  };
  if (kind !== 'joiner') body.person = asking.person || null;
  if (kind === 'joiner') body.record = filled(asking.record);
  if (kind === 'mover' || kind === 'change') Object.assign(body, { record: asking.record, from: asking.from || null });
  if (kind === 'access' || kind === 'extension')
    body.grants = asking.entitlements.map((entitlement) => ({ entitlement, from: asking.from || null, until: asking.until || null }));
  if (kind === 'account')
    Object.assign(body, { template: asking.template || null, from: asking.from || null, until: asking.until || null });
  if (kind === 'password' || kind === 'unlock') body.target = asking.target || null;
  if (kind === 'leaver') Object.assign(body, asking.urgent ? { urgent: true } : { lastDay: asking.lastDay || null });
  return body;
}

/** The form from a body that was kept or raised before. */
export function askingOf(body: NewRequest): Asking {
  return {
    ...nothingAsked,
    kind: (body.kind as Kind) ?? 'joiner',
    person: body.person ?? '',
    reason: body.reason ?? '',
    record: body.record ?? {},
    entitlements: (body.grants ?? []).map((g) => g.entitlement),
    from: (body.from ?? body.grants?.[0]?.from ?? '').slice(0, 10),
    until: (body.until ?? body.grants?.[0]?.until ?? '').slice(0, 10),
    template: body.template ?? '',
    target: body.target ?? '',
    lastDay: body.lastDay ?? '',
    urgent: body.urgent ?? false,
  };
}
