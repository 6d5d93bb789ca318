import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { Provider } from 'react-redux';
import { RouterProvider } from 'react-router';
import { router } from './app/routes';
import { store } from './data/store';
import { pageNonce } from './shared/page-nonce';
import './styles/theme.css';

// Styles that Radix puts in at run time carry the page's nonce; it asks for it under this name.
(globalThis as { __webpack_nonce__?: string }).__webpack_nonce__ = pageNonce();

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <Provider store={store}>
      <RouterProvider router={router} />
    </Provider>
  </StrictMode>,
);
