import { describe, expect, it } from 'vitest';
import type { ChangeView, StepView } from '../../api/client';
import { stepsOf, summaryOf } from './Plan';

const change = (kind: string, later = false, due: string | null = null) => ({ kind, later, due }) as ChangeView;

describe('the whole effect in one line', () => {
  it('counts what is made and given', () =>
    expect(summaryOf([change('create-account'), change('set-password'), change('grant'), change('grant'), change('verify')])).toBe(
      '1 new account, 2 entitlements given, with no end.',
    ));
  it('counts what is taken', () =>
    expect(summaryOf([change('disable-account'), change('revoke'), change('revoke')])).toBe(
      '1 account disabled, 2 entitlements taken back.',
    ));
  it('says when it ends', () =>
    expect(summaryOf([change('grant'), change('revoke', true, '2027-04-01T00:00:00Z')])).toMatch(/^1 entitlement given; ends .*2027/));
  it('says when nothing happens', () => expect(summaryOf([])).toBe('Nothing is given or taken.'));
});

it('a plan that was made anew has no steps before it is released', () => {
  const steps = [{ ordinal: 1, state: 'dropped' }] as StepView[];
  expect(stepsOf('releasing', steps)).toEqual([]);
  expect(stepsOf('fulfilling', steps)).toBe(steps);
});
