import { stateWord } from '../../parts/StateMark';

/** What the list of requests can be narrowed by; it stands in the address, so every view can be linked and saved. */
export interface RequestSearch {
  state: string | undefined;
  kind: string | undefined;
  text: string | undefined;
  site: string | undefined;
  department: string | undefined;
  waitsOn: string | undefined;
  requester: string | undefined;
  late: boolean | undefined;
  stuck: boolean | undefined;
  open: boolean | undefined;
  board: boolean | undefined;
}

export const allRequests: RequestSearch = {
  state: undefined,
  kind: undefined,
  text: undefined,
  site: undefined,
  department: undefined,
  waitsOn: undefined,
  requester: undefined,
  late: undefined,
  stuck: undefined,
  open: undefined,
  board: undefined,
};

const text = (value: unknown) =>
  typeof value === 'string' && value.length > 0 ? value : typeof value === 'number' ? String(value) : undefined;
const yes = (value: unknown) => (value === true || value === 'true' ? true : undefined);

export const readSearch = (search: Record<string, unknown>): RequestSearch => ({
  state: text(search.state),
  kind: text(search.kind),
  text: text(search.text),
  site: text(search.site),
  department: text(search.department),
  waitsOn: text(search.waitsOn),
  requester: text(search.requester),
  late: yes(search.late),
  stuck: yes(search.stuck),
  open: yes(search.open),
  board: yes(search.board),
});

/** The same as the query of an address, without what is not set. */
export function writeSearch(search: RequestSearch): string {
  const parts = new URLSearchParams();
  for (const [name, value] of Object.entries(search)) if (value !== undefined) parts.set(name, String(value));
  return parts.toString();
}

/** States of a request in the order in which it goes through them. */
const states = ['planning', 'choosing', 'deciding', 'asked', 'releasing', 'fulfilling', 'completed', 'declined', 'withdrawn', 'lapsed'];

export const stateOptions: [string, string][] = [
  ['', 'every state'],
  ...states.map((s): [string, string] => [s, stateWord(s).toLowerCase()]),
];
