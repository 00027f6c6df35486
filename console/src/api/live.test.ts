import type { QueryClient } from '@tanstack/react-query';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { listen } from './live';

class Stream extends EventTarget {
  static last: Stream;
  closed = false;
  constructor(readonly url: string) {
    super();
    Stream.last = this;
  }
  close() {
    this.closed = true;
  }
  tell(topic: string) {
    this.dispatchEvent(new MessageEvent('change', { data: JSON.stringify({ topic, subject: 'x' }) }));
  }
}

describe('the live stream', () => {
  const invalidateQueries = vi.fn(() => Promise.resolve());
  const queries = { invalidateQueries } as unknown as QueryClient;

  beforeEach(() => {
    vi.useFakeTimers();
    vi.stubGlobal('EventSource', Stream);
    vi.stubGlobal('window', globalThis);
  });
  afterEach(() => {
    vi.useRealTimers();
    vi.unstubAllGlobals();
    invalidateQueries.mockClear();
  });

  it('gathers many hints into one look per topic', () => {
    listen(queries);
    for (let i = 0; i < 50; i++) Stream.last.tell('requests');
    expect(invalidateQueries).not.toHaveBeenCalled();
    vi.advanceTimersByTime(100);
    expect(invalidateQueries.mock.calls).toEqual([[{ queryKey: ['requests'] }], [{ queryKey: ['people'] }]]);
  });

  it('looks at everything after a gap, and ends when it is left', () => {
    const stop = listen(queries);
    Stream.last.dispatchEvent(new Event('gap'));
    vi.advanceTimersByTime(100);
    expect(invalidateQueries.mock.calls).toEqual([[{ queryKey: undefined }]]);
    Stream.last.tell('people');
    stop();
    vi.advanceTimersByTime(100);
    expect(Stream.last.closed).toBe(true);
    expect(invalidateQueries).toHaveBeenCalledTimes(1);
  });
});
