import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';

import { App, begin } from './app/App';
import './app/frame.css';

/** How long the first drawing waits for its data, in milliseconds: drawn once, it is there sooner than drawn without them first and then again. */
const waitForData = 250;

const root = document.getElementById('root');
if (root) {
  await Promise.race([begin(), new Promise((then) => setTimeout(then, waitForData))]);
  createRoot(root).render(
    <StrictMode>
      <App />
    </StrictMode>,
  );
}
