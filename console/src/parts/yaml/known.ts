import type { Completion } from '@codemirror/autocomplete';

/** Names that a draft defines in one document and another refers to. */
export interface Known {
  /** Entitlements, as `target/name`. */
  entitlements: string[];
  /** Attributes that sources give. */
  attributes: string[];
}

/** Functions of the language of expressions, with what each is called on. */
const functions: [string, string][] = [
  ['ascii', 'text'],
  ['contains', 'text, part'],
  ['date', 'text'],
  ['duration', 'text'],
  ['endsWith', 'text, part'],
  ['join', 'list, between'],
  ['lower', 'text'],
  ['matches', 'text, pattern'],
  ['replace', 'text, what, by'],
  ['size', 'text or list'],
  ['split', 'text, at'],
  ['startsWith', 'text, part'],
  ['string', 'value'],
  ['substring', 'text, from, to'],
  ['trim', 'text'],
  ['upper', 'text'],
  ['year', 'date'],
];

/** Keys whose values are entitlements. */
const referring = new Set(['to', 'nobody-with', 'also-has']);

/** Keys directly under one of a document, such as the names under `entitlements`. */
function under(text: string, section: string): string[] {
  const lines = text.split('\n');
  const start = lines.findIndex((l) => new RegExp(`^${section}:\\s*$`).test(l));
  if (start < 0) return [];
  const found: string[] = [];
  let indent = 0;
  for (const line of lines.slice(start + 1)) {
    if (/^\s*(#|$)/.test(line)) continue;
    const lead = line.length - line.trimStart().length;
    if (lead === 0) break;
    indent ||= lead;
    const key = lead === indent && line.trim().match(/^([\w-]+):/);
    if (key) found.push(key[1] ?? '');
  }
  return found;
}

/** Reads the names out of a draft; half-written documents give what they have. */
export function knownOf(files: { path: string; text: string }[]): Known {
  const of = (folder: string) => files.filter((f) => f.path.startsWith(`${folder}/`));
  const nameOf = (text: string) => text.match(/^name:\s*([\w-]+)/m)?.[1];
  return {
    entitlements: of('targets').flatMap((f) => under(f.text, 'entitlements').map((key) => `${nameOf(f.text) ?? '?'}/${key}`)),
    attributes: [...new Set(of('sources').flatMap((f) => under(f.text, 'mapping')))].sort(),
  };
}

/** What is offered as a value of a key, from the names of the draft and the language of expressions. */
export function knownHere(known: Known, key: string, expression: boolean): Completion[] {
  if (referring.has(key)) return known.entitlements.map((label) => ({ label, type: 'constant' }));
  if (!expression) return [];
  return [
    ...known.attributes.map((label) => ({ label, type: 'variable', detail: 'attribute' })),
    ...functions.map(([label, takes]) => ({ label, type: 'function', detail: `(${takes})`, apply: `${label}(` })),
  ];
}
