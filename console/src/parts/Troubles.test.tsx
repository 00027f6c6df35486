// @vitest-environment jsdom
/// <reference types="vite/client" />
import { QueryClient, QueryClientProvider, useMutation, useQuery } from '@tanstack/react-query';
import { cleanup, fireEvent, render, screen, waitFor } from '@testing-library/react';
import { afterEach, expect, it, vi } from 'vitest';
import { mutationCache, queryCache, Troubles } from './Troubles';

afterEach(cleanup);

const files = import.meta.glob<string>(['../**/*.{ts,tsx}', '!../**/*.test.*', '!../api/schema.d.ts'], {
  query: '?raw',
  import: 'default',
  eager: true,
});

/** The functions of a file, by where each begins at the margin. */
const functionsOf = (text: string) => text.split(/^(?=(?:export )?(?:async )?function |(?:export )?const \w+ = )/m);

it('leaves no query and no change whose failure nobody sees', () => {
  let met = 0;
  const unseen: string[] = [];
  for (const [file, text] of Object.entries(files))
    for (const body of functionsOf(text))
      for (const found of body.matchAll(
        /const (\w+)(?:: [\w<>, ]+)? =\s*use(?:Infinite)?(?:Query|Mutation)(?:<[^>]*>)?\(\{([\s\S]*?)\n? *\}\);/g,
      )) {
        met++;
        const [, name, options = ''] = found;
        const isShown = new RegExp(`\\b${name}\\.(isError|error)\\b|=\\{${name}\\}`).test(body);
        if (!isShown && !options.includes('meta: { what:')) unseen.push(`${file}: ${name}`);
      }
  expect(met).toBeGreaterThan(60);
  expect(unseen).toEqual([]);
});

let works = false;

function Page() {
  const list = useQuery({
    meta: { what: 'Your tokens' },
    queryKey: ['tokens'],
    queryFn: () => (works ? Promise.resolve(1) : Promise.reject(new Error('The store is away.'))),
  });
  const end = useMutation({ meta: { what: 'Ending the token' }, mutationFn: () => Promise.reject(new Error('It is not yours.')) });
  const own = useMutation({ mutationFn: () => Promise.reject(new Error('shown in its place')) });
  return (
    <>
      <button type="button" onClick={() => void list.refetch()}>
        again
      </button>
      <button type="button" onClick={() => end.mutate()}>
        end
      </button>
      <button type="button" onClick={() => own.mutate()}>
        own
      </button>
    </>
  );
}

it('tells what failed until it works or is closed', async () => {
  const also = vi.fn();
  const client = new QueryClient({
    queryCache: queryCache(also),
    mutationCache: mutationCache(),
    defaultOptions: { queries: { retry: false } },
  });
  render(
    <QueryClientProvider client={client}>
      <Page />
      <Troubles />
    </QueryClientProvider>,
  );
  await screen.findByText('Your tokens could not be read.');
  expect(document.querySelector('[aria-live]')?.textContent).toContain('The store is away.');
  expect(also).toHaveBeenCalledOnce();
  fireEvent.click(screen.getByText('own'));
  fireEvent.click(screen.getByText('end'));
  fireEvent.click(screen.getByText('end'));
  await screen.findByText('Ending the token was not done.');
  expect(screen.getAllByText('Ending the token was not done.')).toHaveLength(1);
  expect(screen.queryByText('shown in its place')).toBeNull();
  fireEvent.click(screen.getByRole('button', { name: 'Close: Ending the token was not done' }));
  expect(screen.queryByText('Ending the token was not done.')).toBeNull();
  works = true;
  fireEvent.click(screen.getByText('again'));
  await waitFor(() => expect(document.querySelector('[aria-live]')?.textContent).toBe(''));
});
