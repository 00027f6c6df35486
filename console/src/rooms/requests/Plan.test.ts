import { expect, it } from 'vitest';
import type { StepView } from '../../api/client';
import { stepsOf } from './Plan';

it('a plan that was made anew has no steps before it is released', () => {
  const steps = [{ ordinal: 1, state: 'dropped' }] as StepView[];
  expect(stepsOf('releasing', steps)).toEqual([]);
  expect(stepsOf('fulfilling', steps)).toBe(steps);
});
