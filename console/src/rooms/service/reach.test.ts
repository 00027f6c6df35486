import { describe, expect, it } from 'vitest';
import { everywhere, limitsOf, partsOf, reachOf } from './reach';

describe('reach', () => {
  it('is everywhere when nothing is named', () => {
    expect(limitsOf(undefined)).toEqual(everywhere);
    expect(limitsOf({ sites: null, departments: null, targets: null })).toEqual(everywhere);
    expect(partsOf(everywhere)).toEqual([]);
  });
  it('sends limits only of roles that are held and limited', () => {
    const harbour = { ...everywhere, sites: ['harbour'], targets: ['directory'] };
    expect(partsOf(harbour)).toEqual(['harbour', 'directory']);
    expect(reachOf(['approver', 'auditor'], { approver: harbour, auditor: everywhere, operator: harbour })).toEqual({ approver: harbour });
    expect(reachOf([], { approver: harbour })).toEqual({});
    expect(reachOf(['engineer'], {})).toEqual({});
  });
});
