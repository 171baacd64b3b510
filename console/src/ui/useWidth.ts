import { type RefObject, useEffect, useRef, useState } from "react";

/** How wide an element is, in pixels, as it changes; `first` until it is there. */
export function useWidth<T extends HTMLElement>(first: number): [RefObject<T | null>, number] {
  const box = useRef<T>(null);
  const [width, setWidth] = useState(first);
  useEffect(() => {
    const element = box.current;
    if (!element) return undefined;
    const observer = new ResizeObserver(() => setWidth(element.clientWidth));
    observer.observe(element);
    setWidth(element.clientWidth);
    return () => observer.disconnect();
  }, []);
  return [box, width];
}
