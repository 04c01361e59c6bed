import { lazy, type ComponentType } from 'react';

import { persistently } from './persistently';

/** What loads the code of a part of the console, and at which page's address it is wanted, if it is a page. */
interface Part {
  at?: string;
  load: () => Promise<unknown>;
}

const parts: Part[] = [];

/** A part of the console whose code is loaded when it is first drawn, or once there is nothing else to do. A page tells the part of its address behind the site. */
export function later<P extends object>(load: () => Promise<ComponentType<P>>, at?: string) {
  parts.push({ at, load });
  return lazy(async () => ({ default: await persistently(load) }));
}

/** Asks for the code of the pages at an address before they are drawn. */
export function loadEarly(at: string) {
  for (const part of parts) if (part.at === at) void part.load().catch(() => undefined); // it is asked for again when it is drawn
}

/** How long it is waited where code does not come, in milliseconds. */
const againAfter = 5000;

/** Waits until the window has nothing else to do; for a while where a browser cannot tell. */
const idle = () => new Promise((then) => ('requestIdleCallback' in window ? window.requestIdleCallback(then) : setTimeout(then, 500)));

/** Loads the code of all parts, one after the other, each when the window has nothing else to do: without a connection all of them are there then. */
export async function loadRest() {
  // What is loaded may have parts of its own, which are added at the end.
  for (const { load } of parts) {
    for (let there = false; !there;) {
      await idle();
      there = await load().then(
        () => true,
        () => false,
      );
      if (!there) await new Promise((then) => setTimeout(then, againAfter));
    }
  }
}
