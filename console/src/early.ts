import { beginEarly } from "./lib/early";
import { askFirst } from "./lib/first";

// Small, and there before all else: what a page shows first is on its way while its code is read.
beginEarly();
try {
  for (const one of askFirst(window.location.pathname, new URLSearchParams(window.location.search))) {
    one.catch(() => undefined);
  }
} catch {
  // An address that cannot be read: its page says so.
}
