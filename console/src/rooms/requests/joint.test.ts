import { describe, expect, it } from 'vitest';
import { near } from '../rulebook/DiffView';
import { together } from './joint';

const nothing = { requests: 2, people: 2, byEntitlement: [], accountsMade: 0, accountsDisabled: 0, privileged: 0, items: [], notes: [] };
const tally = (key: string, gained: number, lost: number) => ({ key, title: key, privileged: false, people: gained + lost, gained, lost });

describe('the joint effect in a line', () => {
  it('counts only what there is', () => {
    expect(together(nothing)).toBe('nothing that is there today changes');
    expect(together({ ...nothing, accountsMade: 1, byEntitlement: [tally('a', 2, 0), tally('b', 1, 1)] })).toBe(
      '1 account made, 3 entitlements given, 1 taken away',
    );
    expect(together({ ...nothing, accountsDisabled: 2, byEntitlement: [tally('a', 1, 0)], privileged: 1 })).toBe(
      '2 accounts disabled, 1 entitlement given, 1 of them privileged',
    );
  });
});

describe('lines near a change', () => {
  const lines = (ops: string) => [...ops].map((o) => ({ op: { '.': 'same', '+': 'new', '-': 'gone' }[o] ?? 'same' }));
  it('shows two lines around it and a gap in between', () => {
    expect(near(lines('....'))).toEqual([]);
    expect(near(lines('+...')).length).toBe(4);
    expect(near(lines('-........+')).map((l) => l?.op ?? 'gap')).toEqual(['gone', 'same', 'same', 'gap', 'same', 'same', 'new']);
  });
});
