/** As much of JSON Schema (draft 2020-12) as the service writes for the body of a request. */
export interface FieldSchema {
  title?: string;
  description?: string;
  type?: string;
  const?: string;
  enum?: string[];
  oneOf?: FieldSchema[];
  anyOf?: FieldSchema[];
  required?: string[];
  properties?: Record<string, FieldSchema>;
  items?: FieldSchema;
  /** What is chosen rather than typed. */
  'x-pick'?: 'day' | 'person' | 'entitlement';
  /** The kind of request is mostly about it. */
  'x-usual'?: boolean;
}

/** Values to choose from, with what people read; null when anything may be typed. */
export function choicesOf(schema: FieldSchema): [string, string][] | null {
  if (schema.enum) return schema.enum.filter((v) => v !== '').map((v) => [v, v]);
  const named = schema.oneOf?.filter((s) => s.const !== undefined);
  return named && named.length > 0 ? named.map((s) => [s.const ?? '', s.title ?? s.const ?? '']) : null;
}

/** Fields of which one is wanted and not another, such as the last day or at once. */
export const insteadOf = (schema: FieldSchema, name: string): string[] => {
  const ways = [...(schema.anyOf ?? []), ...(schema.oneOf ?? [])].flatMap((s) => s.required ?? []);
  return ways.includes(name) ? ways.filter((way) => way !== name) : [];
};

/** The form of one grant, where the kind asks for grants. */
export const grantOf = (schema: FieldSchema) => schema.properties?.grants?.items?.properties ?? {};
