import { useQuery } from '@tanstack/react-query';
import { api, ask } from '../../api/client';
import type { Place } from '../../parts/when';

/** What can be asked for, and the words people read; kept for a minute. */
export const useCatalogue = () =>
  useQuery({ queryKey: ['catalogue'], queryFn: () => ask(api.GET('/api/v1/catalogue')), staleTime: 60_000 });

export interface Words {
  /** The title of an attribute of people. */
  attribute: (name: string) => string;
  /** The title of an attribute of accounts in a target. */
  held: (target: string, name: string) => string;
  /** The title of a target, with the slot where it is not the ordinary account. */
  target: (account: string) => string;
  /** Where the days of a site begin and end. */
  place: (site: string) => Place | undefined;
}

/** How an account is named: the target, and the slot where it is not the ordinary one. */
export const accountOf = (target: string, slot: string) => (slot ? `${target}:${slot}` : target);

const targetOf = (account: string) => account.split(':')[0] ?? account;

/** A title, with the slot of the account where it is not the ordinary one. */
export const slotted = (title: string, slot?: string) => (slot ? `${title} (${slot})` : title);

/** Words of the rulebook in the place of names; the names themselves until they are known. */
export function useWords(): Words {
  const { data } = useCatalogue();
  const target = (name: string) => data?.targets.find((t) => t.name === targetOf(name));
  return {
    attribute: (name) => data?.attributes.find((a) => a.name === name)?.title || name,
    held: (of, name) => target(of)?.attributes.find((a) => a.name.toLowerCase() === name.toLowerCase())?.value ?? name,
    target: (name) => slotted(target(name)?.title ?? targetOf(name), name.split(':')[1]),
    place: (site) => {
      const found = data?.sites.find((s) => s.name === site);
      return found && { zone: found.zone, title: found.value };
    },
  };
}
