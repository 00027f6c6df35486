import { describe, expect, it } from 'vitest';
import { ask, Refusal } from './client';

const answer = (status: number, parts: { data?: unknown; error?: unknown }) =>
  Promise.resolve({ ...parts, response: new Response(null, { status }) });

describe('asking the service', () => {
  it('gives the data of a good answer', async () => expect(await ask(answer(200, { data: { number: 7 } }))).toEqual({ number: 7 }));

  it('throws a refusal with its code and its words', async () => {
    const refusal = await ask(answer(409, { error: { code: 'plan-changed', detail: 'Look again.' } })).catch((e: unknown) => e);
    expect(refusal).toBeInstanceOf(Refusal);
    expect(refusal).toMatchObject({ status: 409, code: 'plan-changed', message: 'Look again.' });
  });

  it('says something even when the answer says nothing', async () =>
    expect(await ask(answer(502, {})).catch((e: unknown) => (e as Error).message)).toBe('The service answered 502.'));

  it('tells when nobody answers', async () =>
    expect(await ask(Promise.reject(new TypeError('fetch failed'))).catch((e: unknown) => (e as Refusal).code)).toBe('unreachable'));
});
