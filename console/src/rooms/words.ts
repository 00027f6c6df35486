import { useQuery } from '@tanstack/react-query';
import { api, ask } from '../api/client';
import type { Place } from '../parts/when';

/** What can be asked for, and the words people read; kept for a minute. */
export const useCatalogue = () =>
  useQuery({ queryKey: ['catalogue'], queryFn: () => ask(api.GET('/api/v1/catalogue')), staleTime: 60_000 });

export interface Words {
  /** The title of an attribute of people. */
  attribute: (name: string) => string;
  /** The title of an attribute of accounts in a target. */
  held: (target: string, name: string) => string;
  target: (name: string) => string;
  /** Where the days of a site begin and end. */
  place: (site: string) => Place | undefined;
}

/** Words of the rulebook in the place of names; the names themselves until they are known. */
export function useWords(): Words {
  const { data } = useCatalogue();
  const target = (name: string) => data?.targets.find((t) => t.name === name);
  return {
    attribute: (name) => data?.attributes.find((a) => a.name === name)?.title || name,
    held: (of, name) => target(of)?.attributes.find((a) => a.name.toLowerCase() === name.toLowerCase())?.value ?? name,
    target: (name) => target(name)?.title ?? name,
    place: (site) => {
      const found = data?.sites.find((s) => s.name === site);
      return found && { zone: found.zone, title: found.value };
    },
  };
}
