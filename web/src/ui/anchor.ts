// What an address names after its #: a router that draws pages by itself does not go there by itself.
import { useEffect } from "react";
import { useLocation } from "react-router";

const COMES_WITHIN_MS = 5000;

/** Bring it into view, and the keyboard to it, as soon as the page holds it. */
export function useAnchor(): void {
  const { hash, key } = useLocation();
  // biome-ignore lint/correctness/useExhaustiveDependencies(key): asked for once more, it is shown once more.
  useEffect(() => {
    const id = hash.slice(1);
    if (!id) return;
    const show = () => {
      const found = document.getElementById(id);
      if (!found) return false;
      if (found.tabIndex < 0) found.tabIndex = -1;
      found.focus({ preventScroll: true });
      found.scrollIntoView({ block: "start" });
      return true;
    };
    if (show()) return;
    const page = new MutationObserver(() => {
      if (show()) page.disconnect();
    });
    page.observe(document.body, { childList: true, subtree: true });
    const over = setTimeout(() => page.disconnect(), COMES_WITHIN_MS);
    return () => {
      clearTimeout(over);
      page.disconnect();
    };
  }, [hash, key]);
}
