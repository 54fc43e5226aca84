// The present, a second at a time, shared by all that count on it.

export const now = $state({ ms: Date.now() });

setInterval(() => (now.ms = Date.now()), 1000);
