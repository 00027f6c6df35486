import '@fontsource-variable/literata/index.css';
import '@fontsource-variable/source-sans-3/index.css';
import './shell/book.css';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { RouterProvider } from '@tanstack/react-router';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { Refusal } from './api/client';
import { mutationCache, queryCache } from './parts/Troubles';
import { leadToSignIn } from './shell/leave';
import { makeRouter } from './shell/routes';

const queries: QueryClient = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      retry: (count, error) => count < 3 && !(error instanceof Refusal && error.status >= 400 && error.status < 500),
    },
  },
  queryCache: queryCache((error) => {
    if (error instanceof Refusal && error.status === 401) leadToSignIn();
  }),
  mutationCache: mutationCache(),
});
const router = makeRouter(queries);

const root = document.getElementById('root');
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  );
}
