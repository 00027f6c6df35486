import type { QueryClient } from '@tanstack/react-query';

/** Listens to what changes and lets the pages ask again. One stream for the whole tab. */
export function listen(queries: QueryClient): () => void {
  const stream = new EventSource('/api/v1/events');
  const due = new Set<string>();
  let timer: number | undefined;
  const flush = () => {
    timer = undefined;
    for (const topic of due) void queries.invalidateQueries({ queryKey: topic === 'all' ? undefined : [topic] });
    due.clear();
  };
  const mark = (topic: string) => {
    due.add(topic);
    timer ??= window.setTimeout(flush, 80);
  };
  stream.addEventListener('change', (event) => {
    const hint = JSON.parse((event as MessageEvent<string>).data) as { topic: string };
    mark(hint.topic);
    if (hint.topic === 'requests') mark('people');
  });
  stream.addEventListener('gap', () => mark('all'));
  return () => {
    stream.close();
    window.clearTimeout(timer);
  };
}
