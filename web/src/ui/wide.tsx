// What needs its width keeps it: on a narrow screen a table or picture scrolls in a box of its own, and the box can be
// reached by key while there is something to scroll.
import { type ReactNode, useEffect, useRef, useState } from "react";

export function Wide({ label, children }: { label: string; children: ReactNode }) {
  const box = useRef<HTMLDivElement>(null);
  const [scrolls, setScrolls] = useState(false);
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const look = () => setScrolls(element.scrollWidth > element.clientWidth + 1);
    const watch = new ResizeObserver(look);
    watch.observe(element);
    for (const child of element.children) watch.observe(child);
    return () => watch.disconnect();
  }, []);
  return (
    <div
      ref={box}
      className="max-lg:relative max-lg:overflow-x-auto"
      {...(scrolls ? { tabIndex: 0, role: "region", "aria-label": label } : {})}
    >
      {children}
    </div>
  );
}
