/** Where in a document a position is: the keys that lead there, `[]` for an item of a list. */
export interface Place {
  path: string[];
  /** A key is being written, or the value of the last key of the path. */
  what: 'key' | 'value';
  /** Where the word at the position begins, from the beginning of the line. */
  from: number;
  word: string;
}

const dashes = /^(\s*)((?:- +)*)/;
const pair = /^([\w.:-]+|"[^"]*")\s*:(?:\s+|$)/;

interface Line {
  /** Columns of the dashes. */
  items: number[];
  /** Column of what follows them. */
  column: number;
  key: string | null;
  value: string;
}

function read(text: string): Line | null {
  const head = text.match(dashes);
  const lead = head?.[1]?.length ?? 0;
  const column = head?.[0].length ?? 0;
  const rest = text.slice(column);
  if (rest.trim() === '' ? text.trim() !== '-' : rest.startsWith('#')) return null;
  const items: number[] = [];
  for (let at = lead; at < column; at++) if (text[at] === '-') items.push(at);
  const key = rest.match(pair);
  return { items, column, key: key?.[1]?.replaceAll('"', '') ?? null, value: key ? rest.slice(key[0].length) : rest };
}

/** The keys above a line, by their columns; a list may stand in the column of its key. */
function above(lines: string[], self: Line): string[] {
  const path: string[] = [];
  let limit = self.column;
  let item: number | null = null;
  const climb = (line: Line) => {
    for (const at of [...line.items].reverse()) {
      if (at >= limit || item === at) continue;
      path.unshift('[]');
      limit = at + 0.5;
      item = at;
    }
  };
  climb(self);
  for (const text of [...lines].reverse()) {
    const line = read(text);
    if (!line) continue;
    if (line.key !== null && line.column < limit) {
      path.unshift(line.key);
      limit = line.column;
      item = null;
    } else if (line.column > limit && line.items.length === 0) continue;
    climb(line);
  }
  return path;
}

/** Steps into what stands between braces and brackets on one line, as far as the position. */
function within(value: string, path: string[]): { path: string[]; rest: string } {
  let [rest, into] = [value, path];
  for (;;) {
    const open = rest.match(/^\s*([{[])/)?.[1];
    if (!open) return { path: into, rest };
    rest = rest.replace(/^\s*[{[]/, '');
    const parts = rest.split(/,(?=(?:[^"']*["'][^"']*["'])*[^"']*$)/);
    const last = parts.at(-1) ?? '';
    if (open === '[') {
      into = [...into, '[]'];
      rest = last.trimStart();
      continue;
    }
    const key = last.trimStart().match(pair);
    if (!key) return { path: into, rest: last.trimStart() };
    into = [...into, key[1]?.replaceAll('"', '') ?? ''];
    rest = last.trimStart().slice(key[0].length);
    if (!/^\s*[{[]/.test(rest)) return { path: [...into, ''], rest };
  }
}

/** Reads where the end of a text is; null inside a note. What is written at the end may be half a line. */
export function placeOf(text: string): Place | null {
  const lines = text.split('\n');
  const current = lines.pop() ?? '';
  if (/(^|\s)#/.test(current.replace(/"[^"]*"|'[^']*'/g, ''))) return null;
  const self = read(current) ?? { items: [], column: current.match(dashes)?.[0].length ?? 0, key: null, value: '' };
  const path = above(lines, self);
  const into = self.key === null ? path : [...path, self.key];
  const { path: found, rest } = within(self.value, into);
  // A last step without a name says that the value of the step before it is being written.
  const inFlow = found.length > into.length;
  const valued = inFlow ? found.at(-1) === '' : self.key !== null && !/^\s*\{/.test(self.value);
  const word = rest.match(/[\w./:-]*$/)?.[0] ?? '';
  const whole = inFlow && found.at(-1) === '' ? found.slice(0, -1) : found;
  return { path: whole, what: valued ? 'value' : 'key', from: current.length - word.length, word };
}
