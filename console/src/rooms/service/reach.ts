import type { Schemas } from '../../api/client';

/** The part of the organisation to which a role is limited; three empty lists mean everywhere. */
export interface Limits {
  sites: string[];
  departments: string[];
  targets: string[];
}

export const everywhere: Limits = { sites: [], departments: [], targets: [] };

export const limitsOf = (reach: Schemas['ReachBody'] | undefined): Limits => ({
  sites: reach?.sites ?? [],
  departments: reach?.departments ?? [],
  targets: reach?.targets ?? [],
});

/** The parts in a line, sites first. */
export const partsOf = (limits: Limits): string[] => [...limits.sites, ...limits.departments, ...limits.targets];

/** What is sent: limits of the roles that are held, and only those that limit anything. */
export const reachOf = (roles: string[], limits: Record<string, Limits>): Record<string, Schemas['ReachBody']> =>
  Object.fromEntries(roles.flatMap((role) => (limits[role] && partsOf(limits[role]).length > 0 ? [[role, limits[role]]] : [])));
