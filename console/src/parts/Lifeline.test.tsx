// @vitest-environment jsdom
import { cleanup, render, screen } from '@testing-library/react';
import { afterEach, describe, expect, it } from 'vitest';
import { Lifeline, spanOf } from './Lifeline';

const now = Date.parse('2026-11-25T12:00:00Z');
const month = 30.44 * 86_400_000;
afterEach(cleanup);

describe('the span that is drawn', () => {
  it('is nine months around now when nothing lies near', () => {
    const [from, until] = spanOf([{ name: 'x', kind: 'employment', from: '2009-03-01T00:00:00Z' }], [], now);
    expect(from).toBe(now - 9 * month);
    expect(until).toBe(now + 9 * month);
  });
  it('reaches to a near end and to what is scheduled', () => {
    const end = '2027-10-31T00:00:00Z';
    expect(spanOf([{ name: 'x', kind: 'grant', from: '2026-11-01T00:00:00Z', until: end }], [], now)[1]).toBe(Date.parse(end) + month);
    expect(spanOf([], [{ at: end, text: 'end' }], now)[1]).toBe(Date.parse(end) + month);
  });
});

describe('the lifeline', () => {
  it('draws what rests paler than what works, and says so', () => {
    const account = { kind: 'account' as const, from: '2026-11-02T00:00:00Z' };
    const { container } = render(
      <Lifeline
        title="Over time"
        now={now}
        bars={[
          { ...account, name: 'Directory', note: 'enabled' },
          { ...account, name: 'Records', note: 'disabled', rests: true },
        ]}
      />,
    );
    const [works, rests] = [...container.querySelectorAll('rect')].map((r) => r.getAttribute('class') ?? '');
    expect(rests).not.toBe(works);
    expect(screen.getAllByRole('listitem').map((item) => item.textContent)).toContain('Records: from 2 Nov 2026 on, with no end, disabled');
  });

  it('tells every bar in words', () => {
    render(
      <Lifeline
        title="Over time"
        now={now}
        bars={[
          { name: 'Diver', kind: 'employment', from: '2026-11-02T00:00:00Z' },
          { name: 'Dive team', kind: 'grant', from: '2026-11-02T00:00:00Z', until: '2027-01-31T00:00:00Z' },
        ]}
        marks={[{ at: '2027-02-01T00:00:00Z', text: 'Disable the account' }]}
      />,
    );
    expect(screen.getByRole('img', { name: 'Over time' })).toBeTruthy();
    expect(screen.getAllByRole('listitem').map((item) => item.textContent)).toEqual([
      'Diver: from 2 Nov 2026 on, with no end',
      'Dive team: from 2 Nov 2026 until 31 Jan 2027',
      '1 Feb 2027: Disable the account',
    ]);
  });
});
