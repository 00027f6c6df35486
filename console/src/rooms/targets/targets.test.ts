import { describe, expect, it, test } from 'vitest';
import type { NobodysAccount, TargetSummary } from '../../api/client';
import { filled } from './Hours';
import { isShown } from './Nobodys';
import { toldOf } from './TargetsPage';

const target = (title: string, state: string, due = 0) => ({ title, state, due }) as TargetSummary;

test('the gravest state is told first, by name', () => {
  expect(toldOf([target('Directory', 'works'), target('Shop', 'away'), target('Records', 'paused')])).toBe('Shop does not answer.');
  expect(toldOf([target('Directory', 'away'), target('Shop', 'away')])).toBe('Directory, Shop do not answer.');
  expect(toldOf([target('Directory', 'works'), target('Records', 'paused')])).toBe('Records is paused.');
  expect(toldOf([target('Records', 'maintenance')])).toBe('Records is being worked on.');
  expect(toldOf([target('Directory', 'works', 1)])).toBe('All work; 1 step is due.');
  expect(toldOf([target('Directory', 'works')])).toBe('All work, and nothing waits for them.');
});

test('hours in which nothing was done are there, and empty', () => {
  const now = Date.parse('2026-05-04T10:30:00Z');
  const hours = filled([{ at: '2026-05-04T09:00:00Z', done: 7, failed: 1 }], now);
  expect(hours).toHaveLength(48);
  expect(hours[47]).toEqual({ at: '2026-05-04T10:00:00.000Z', done: 0, failed: 0 });
  expect(hours[46]?.done).toBe(7);
  expect(hours.reduce((sum, h) => sum + h.done, 0)).toBe(7);
});

describe('accounts of nobody', () => {
  const account = (purpose: string, name = 'svc-backup') =>
    ({ name, purpose, targetTitle: 'Northmere directory', ownerName: 'Ines Morrow' }) as NobodysAccount;
  it('shows first what is to be decided, and hides what is left alone', () => {
    expect(['unmatched', 'service', 'shared', 'ignored'].filter((p) => isShown(account(p), 'open', ''))).toEqual(['unmatched']);
    expect(isShown(account('ignored'), 'ignored', '')).toBe(true);
    expect(isShown(account('ignored'), '', '')).toBe(true);
  });
  it('finds by any part of name, target or owner', () => {
    for (const text of ['BACKUP', ' north', 'morrow']) expect(isShown(account('service'), '', text)).toBe(true);
    expect(isShown(account('service'), '', 'kiosk')).toBe(false);
  });
});
