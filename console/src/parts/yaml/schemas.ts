import notices from '../../../../schemas/notice.json';
import pools from '../../../../schemas/pool.json';
import rulebook from '../../../../schemas/rulebook.json';
import separations from '../../../../schemas/separation.json';
import sources from '../../../../schemas/source.json';
import targets from '../../../../schemas/target.json';
import templates from '../../../../schemas/template.json';
import workflows from '../../../../schemas/workflow.json';

/** As much of JSON Schema (draft 2020-12) as the documents of a rulebook use. */
export interface Schema {
  title?: string;
  description?: string;
  type?: string | string[];
  enum?: unknown[];
  pattern?: string;
  properties?: Record<string, Schema>;
  additionalProperties?: boolean | Schema;
  items?: Schema;
  oneOf?: Schema[];
}

const all = { '': rulebook, sources, targets, templates, workflows, pools, separations, notices } as unknown as Record<string, Schema>;

/** What a document holds, by its folder. */
export const schemaOf = (path: string): Schema | undefined => all[path.includes('/') ? (path.split('/')[0] ?? '') : ''];

const forms = (schema: Schema): Schema[] => [schema, ...(schema.oneOf ?? []).flatMap(forms)];

/** What may stand at a place; several, where a value has several forms. */
export function schemasAt(root: Schema | undefined, path: string[]): Schema[] {
  let here = root ? forms(root) : [];
  for (const step of path)
    here = here
      .flatMap((s) => {
        if (step === '[]') return s.items ? [s.items] : [];
        const known = s.properties?.[step];
        if (known) return [known];
        return typeof s.additionalProperties === 'object' ? [s.additionalProperties] : [];
      })
      .flatMap(forms);
  return here;
}

/** Keys that may stand at a place, each with what it means. */
export function keysAt(root: Schema | undefined, path: string[]): [string, Schema][] {
  return schemasAt(root, path).flatMap((s) => Object.entries(s.properties ?? {}));
}

/** Values a place can only have, or that its pattern names. */
export function valuesAt(root: Schema | undefined, path: string[]): string[] {
  const found = schemasAt(root, path).flatMap((s) => [
    ...(s.enum ?? []).filter((v): v is string => typeof v === 'string'),
    ...(s.pattern?.match(/^\^\((.*)\)\$$/)?.[1]?.split('|') ?? []).filter((word) => /^[a-z][a-z-]*$/.test(word)),
  ]);
  return [...new Set(found)];
}

/** What a place means, in a sentence; null when the schema says nothing of it. */
export const meaningAt = (root: Schema | undefined, path: string[]): string | null =>
  schemasAt(root, path).find((s) => s.description)?.description ?? null;

/** True when an expression stands at a place. */
export const isExpression = (root: Schema | undefined, path: string[]) => meaningAt(root, path)?.endsWith('An expression.') ?? false;
