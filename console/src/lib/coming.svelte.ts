// A page that was asked for and is not there yet: on a slow line it is said, and on a broken one
// there is a way to go on.
const patience = 400; // ms before it is said that a page loads

const held = $state({ shown: false, failed: false });
let path = '';
let timer: ReturnType<typeof setTimeout> | undefined;

export const coming = held;

/** A page begins to load. */
export function begins(to: string) {
  path = to;
  held.failed = false;
  clearTimeout(timer);
  timer = setTimeout(() => (held.shown = true), patience);
}

/** It is there. */
export function arrived() {
  clearTimeout(timer);
  held.shown = held.failed = false;
}

/** Asks for the page anew, as the browser itself would: drafts are kept, and come back with it. */
export const again = () => window.location.assign(path);

// What a page is made of did not come.
window.addEventListener('vite:preloadError', () => {
  clearTimeout(timer);
  held.shown = false;
  held.failed = true;
});
// The router waits for what will not come; what is wrong is said already.
window.addEventListener('unhandledrejection', (e) => {
  if (held.failed && /dynamically imported module/.test(String(e.reason))) e.preventDefault();
});
