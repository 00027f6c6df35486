// @vitest-environment jsdom
import { cleanup, render, screen } from '@testing-library/react';
import { afterEach, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { DryRun } from './DryRun';

afterEach(cleanup);

const run = {
  message: '3 rows: 1 unchanged, 1 new or changed, 1 set aside.',
  requests: [
    {
      id: null,
      kind: 'mover',
      person: 'Una Reed',
      number: 'E7',
      what: 'mover',
      text: 'Una Reed moves: title Diver → Keeper',
      changes: [{ name: 'title', before: ['Diver'], after: ['Keeper'] }],
    },
  ],
  setAside: [{ file: 'people.csv', line: 4, column: 'site', value: 'nowhere', reason: "'nowhere' is no site of the rulebook.", key: 'E8' }],
} as unknown as Schemas['IntakeRun'];

it('a dry run tells what would happen, attribute by attribute, and what would be set aside', () => {
  render(<DryRun run={run} close={() => {}} />);
  expect(screen.getByText(/Una Reed moves/)).toBeTruthy();
  expect(screen.getByText('Diver').tagName).toBe('DEL');
  expect(screen.getByText('Keeper').tagName).toBe('INS');
  expect(screen.getByText(/is no site/)).toBeTruthy();
  expect(screen.queryByText(/no request/)).toBeNull();
});

it('a dry run that would raise nothing says so', () => {
  render(<DryRun run={{ ...run, requests: [], setAside: [] }} close={() => {}} />);
  expect(screen.getByText('It would raise no request.')).toBeTruthy();
});
