import type { Schemas } from '../../api/client';
import { count } from '../../parts/count';

/** The accounts and grants of several requests in a line; what is none is not counted. */
export function together(joint: Schemas['JointEffect']): string {
  const sum = (field: 'gained' | 'lost') => joint.byEntitlement.reduce((all, t) => all + t[field], 0);
  const words = (n: number, one: string, many: string) => (n === 0 ? [] : [count(n, one, many)]);
  const all = [
    ...words(joint.accountsMade, 'account made', 'accounts made'),
    ...words(joint.accountsDisabled, 'account disabled', 'accounts disabled'),
    ...words(sum('gained'), 'entitlement given', 'entitlements given'),
    ...words(sum('lost'), 'taken away', 'taken away'),
    ...words(joint.privileged, 'of them privileged', 'of them privileged'),
  ];
  return all.length > 0 ? all.join(', ') : 'nothing that is there today changes';
}
