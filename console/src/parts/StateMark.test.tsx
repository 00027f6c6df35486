// @vitest-environment jsdom
import { cleanup, render, screen } from '@testing-library/react';
import { afterEach, describe, expect, it } from 'vitest';
import { StateMark } from './StateMark';

afterEach(cleanup);

describe('a state', () => {
  it.each([
    ['deciding', 'To decide'],
    ['completed', 'Completed'],
    ['stopped', 'Stopped'],
    ['choosing', 'Choice needed'],
  ])('%s is told by a word and a shape, not by colour alone', (state, word) => {
    const { container } = render(<StateMark state={state} />);
    expect(screen.getByText(word)).toBeTruthy();
    expect(container.querySelector('svg[aria-hidden="true"] path')?.getAttribute('d')).toBeTruthy();
  });

  it('has another shape for yes and for no', () => {
    const shape = (state: string) =>
      render(<StateMark state={state} />)
        .container.querySelector('path')
        ?.getAttribute('d');
    expect(new Set(['completed', 'declined', 'deciding', 'choosing', 'releasing', 'fulfilling', 'planning'].map(shape)).size).toBe(7);
  });

  it('shows a state it does not know as it is', () => {
    render(<StateMark state="unheard-of" />);
    expect(screen.getByText('unheard-of')).toBeTruthy();
  });
});
