// How wide the place of a chart is, now and whenever it changes.
import { type RefObject, useEffect, useRef, useState } from "react";

/** Of the element that is given ``box``; 0 before it is there. */
export function useWidth(): { box: RefObject<HTMLDivElement | null>; width: number } {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setWidth(element.clientWidth));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);
  return { box, width };
}
