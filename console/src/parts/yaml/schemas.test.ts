import { expect, test } from 'vitest';
import { isExpression, keysAt, meaningAt, schemaOf, valuesAt } from './schemas';

const names = (file: string, path: string[]) => keysAt(schemaOf(file), path).map(([key]) => key);

test('keys come from the schema of the folder', () => {
  expect(names('templates/divers.yaml', [])).toContain('grants');
  expect(names('templates/divers.yaml', ['grants', '[]'])).toEqual(expect.arrayContaining(['to', 'when', 'hand-over']));
  expect(names('rulebook.yaml', ['sites', 'harbour'])).toContain('zone');
  expect(names('templates/divers.yaml', ['nowhere'])).toEqual([]);
  expect(names('nowhere/x.yaml', [])).toEqual([]);
});

test('values come from enumerations and patterns', () => {
  expect(valuesAt(schemaOf('workflows/w.yaml'), ['for', '[]'])).toContain('mover');
  expect(valuesAt(schemaOf('workflows/w.yaml'), ['stages', '[]', 'decides'])).toContain('manager-of-manager');
  expect(valuesAt(schemaOf('templates/t.yaml'), ['name'])).toEqual([]);
});

test('what a key means is told, and whether it is an expression', () => {
  expect(meaningAt(schemaOf('templates/t.yaml'), ['when'])).toContain('For whom it applies');
  expect(isExpression(schemaOf('templates/t.yaml'), ['when'])).toBe(true);
  expect(isExpression(schemaOf('templates/t.yaml'), ['title'])).toBe(false);
});
