// @vitest-environment jsdom
import { createMemoryHistory, createRootRoute, createRoute, createRouter, RouterProvider } from '@tanstack/react-router';
import { act, cleanup, fireEvent, render, screen } from '@testing-library/react';
import { useEffect } from 'react';
import { afterEach, expect, test, vi } from 'vitest';
import { useGoKeys } from './useGoKeys';

const released = vi.fn();

/** A page that releases by r, as the inbox does, inside a shell with the keys that go places. */
function page() {
  const root = createRootRoute({
    component: function Shell() {
      useGoKeys();
      useEffect(() => {
        const press = (event: KeyboardEvent) => {
          if (event.key === 'r') released();
        };
        window.addEventListener('keydown', press);
        return () => window.removeEventListener('keydown', press);
      }, []);
      return <p>shell</p>;
    },
  });
  const routes = ['/', '/requests', '/people'].map((path) => createRoute({ getParentRoute: () => root, path, component: () => null }));
  const router = createRouter({ routeTree: root.addChildren(routes), history: createMemoryHistory({ initialEntries: ['/'] }) });
  render(<RouterProvider router={router as never} />);
  return router;
}

afterEach(() => {
  cleanup();
  released.mockClear();
});

test('g r opens the requests and releases nothing', async () => {
  const router = page();
  await screen.findByText('shell');
  await act(async () => {
    fireEvent.keyDown(document.body, { key: 'g' });
    fireEvent.keyDown(document.body, { key: 'r' });
  });
  expect(released).not.toHaveBeenCalled();
  expect(router.state.location.pathname).toBe('/requests');
});

test('r alone is the page’s own', async () => {
  page();
  await screen.findByText('shell');
  fireEvent.keyDown(document.body, { key: 'r' });
  expect(released).toHaveBeenCalledTimes(1);
});
