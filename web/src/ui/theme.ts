// Light and dark. The first paint is decided by public/theme.js; this only changes and keeps it.
import { useSyncExternalStore } from "react";

const root = document.documentElement;
const listeners = new Set<() => void>();

export function toggleTheme(): void {
  root.dataset.theme = root.dataset.theme === "dark" ? "light" : "dark";
  localStorage.setItem("tarnfell-theme", root.dataset.theme);
  for (const listener of listeners) listener();
}

/** The theme's name; canvases draw again when it changes. */
export function useTheme(): string {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => root.dataset.theme ?? "light",
  );
}
