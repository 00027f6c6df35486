const kinds: Record<string, string> = { ldap: 'Directory', scim: 'Application', file: 'File', desk: 'By hand' };

/** What people read of a kind of target. */
export const kindOf = (kind: string) => kinds[kind] ?? kind;

const events: Record<string, string> = {
  paused: 'Paused',
  resumed: 'Goes on',
  away: 'Does not answer',
  back: 'Answers again',
  read: 'Read whole',
  changes: 'Read what changed',
  looked: 'Looked at, nothing written',
};

/** What people read of something that became of a target. */
export const eventOf = (kind: string) => events[kind] ?? kind;
