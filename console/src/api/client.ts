import createClient from 'openapi-fetch';
import type { components, paths } from './schema';

export type Schemas = components['schemas'];
export type RequestSummary = Schemas['RequestSummary'];
export type RequestDetail = Schemas['RequestDetail'];
export type ItemView = Schemas['ItemView'];
export type NewRequest = Schemas['NewRequest'];
export type RequestPreview = Schemas['RequestPreview'];
export type TaskView = Schemas['TaskView'];
export type ChangeView = Schemas['ChangeView'];
export type StepView = Schemas['StepView'];
export type PersonSummary = Schemas['PersonSummary'];
export type PersonDetail = Schemas['PersonDetail'];
export type Me = Schemas['Me'];
export type SourceSummary = Schemas['SourceSummary'];
export type SourceDetail = Schemas['SourceDetail'];
export type SourceTest = Schemas['SourceTest'];
export type RulebookFileBody = Schemas['RulebookFileBody'];
export type RulebookFinding = Schemas['RulebookFinding'];
export type RulebookCheck = Schemas['RulebookCheck'];
export type RulebookDiff = Schemas['RulebookDiff'];
export type Rehearsal = Schemas['RehearsalView'];
export type Affected = Schemas['AffectedView'];
export type Rollout = Schemas['RolloutDetail'];
export type Explanation = Schemas['ExplanationView'];
export type TargetSummary = Schemas['TargetSummary'];
export type TargetDetail = Schemas['TargetDetail'];
export type NobodysAccount = Schemas['NobodysAccountView'];

/** The header shows that the call comes from our own page. */
export const api = createClient<paths>({ baseUrl: '/', headers: { 'X-Oikonom': '1' } });

/** A refusal of the service (RFC 9457). */
export class Refusal extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    detail: string,
  ) {
    super(detail);
  }
}

/** The data of a call, or its refusal thrown. */
export async function ask<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let result: { data?: T; error?: unknown; response: Response };
  try {
    result = await call;
  } catch {
    throw new Refusal(0, 'unreachable', 'The service cannot be reached. It is tried again by itself.');
  }
  if (result.response.ok) return result.data as T;
  const problem = (result.error ?? {}) as { code?: string; detail?: string };
  throw new Refusal(result.response.status, problem.code ?? 'refused', problem.detail ?? `The service answered ${result.response.status}.`);
}
