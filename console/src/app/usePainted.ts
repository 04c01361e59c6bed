import { startTransition, useEffect, useState } from 'react';

/** False in the first drawing of a page, and true as soon as that is on screen: what can wait until then is drawn after it. */
export function usePainted(): boolean {
  const [painted, setPainted] = useState(false);
  useEffect(() => {
    // The frame that is drawn next shows the first drawing; a task that it asks for comes after it.
    let timer: ReturnType<typeof setTimeout>;
    const frame = requestAnimationFrame(() => {
      timer = setTimeout(() => startTransition(() => setPainted(true)));
    });
    return () => {
      cancelAnimationFrame(frame);
      clearTimeout(timer);
    };
  }, []);
  return painted;
}
