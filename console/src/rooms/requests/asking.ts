import type { NewRequest } from '../../api/client';
import { type FieldSchema, grantOf, insteadOf } from './schema';

/** What the form holds; only what the schema of the kind has is sent. */
export interface Asking {
  kind: string;
  record: Record<string, string>;
  entitlements: string[];
  urgent: boolean;
  /** Every other field, by its name in the body. */
  values: Record<string, string>;
}

export const nothingAsked: Asking = { kind: 'joiner', record: {}, entitlements: [], urgent: false, values: {} };

/** True when something was filled in that somebody would miss. */
export const isTouched = (asking: Asking) =>
  Object.values(asking.record).some((v) => v !== '') || asking.entitlements.length > 0 || (asking.values.person ?? '') !== '';

/** True when a field of the body has something in it. */
export function isFilled(asking: Asking, name: string): boolean {
  if (name === 'urgent') return asking.urgent;
  if (name === 'grants') return asking.entitlements.length > 0;
  if (name === 'record') return Object.values(asking.record).some((v) => v.trim() !== '');
  return (asking.values[name] ?? '').trim() !== '';
}

const filled = (record: Record<string, string>) =>
  Object.fromEntries(Object.entries(record).filter(([, value]) => value.trim().length > 0));

/** The body of a call from what the form holds. */
export function bodyOf(asking: Asking, schema: FieldSchema): NewRequest {
  const of = (name: string) => asking.values[name]?.trim() || null;
  const body: NewRequest = {
    kind: asking.kind,
    person: null,
    reason: null,
    record: null,
    grants: null,
    target: null,
    template: null,
    from: null,
    until: null,
    lastDay: null,
    urgent: null,
  };
  const sent: Record<string, () => unknown> = {
    kind: () => asking.kind,
    urgent: () => asking.urgent || null,
    // What a joiner leaves empty is not there; what a change leaves empty is taken away.
    record: () => (schema.properties?.person ? asking.record : filled(asking.record)),
    grants: () =>
      asking.entitlements.map((entitlement) => ({
        entitlement,
        from: 'from' in grantOf(schema) ? of('from') : null,
        until: 'until' in grantOf(schema) ? of('until') : null,
      })),
  };
  for (const name of Object.keys(schema.properties ?? {})) {
    // Of two ways, one that is empty gives way to the one that is filled in.
    if (!isFilled(asking, name) && insteadOf(schema, name).some((other) => isFilled(asking, other))) continue;
    Object.assign(body, { [name]: (sent[name] ?? (() => of(name)))() });
  }
  if (asking.urgent) body.lastDay = null;
  return body;
}

/** The form from a body that was kept or raised before. */
export function askingOf(body: NewRequest): Asking {
  const { kind, record, grants, urgent, ...rest } = body;
  const values = Object.entries({
    ...rest,
    from: (body.from ?? grants?.[0]?.from)?.slice(0, 10),
    until: (body.until ?? grants?.[0]?.until)?.slice(0, 10),
  }).filter((pair): pair is [string, string] => typeof pair[1] === 'string' && pair[1] !== '');
  return {
    kind,
    record: record ?? {},
    entitlements: (grants ?? []).map((g) => g.entitlement),
    urgent: urgent ?? false,
    values: Object.fromEntries(values),
  };
}
