/** How long is waited before the code of a page is asked for again, in milliseconds. */
const againAfter = 2000;

/** When this window was loaded anew because the code of a page was gone, in milliseconds since 1970. */
const reloadedAt = 'airdrift.reloaded';

/** How long afterwards it is not loaded anew once more, in milliseconds. */
const reloadsEvery = 60_000;

/**
 * Loads the code of a page, as often as it takes: without a connection it is waited for. Where the service answers and has no such code, it is of another version than this
 * window, which is loaded anew then.
 */
export async function persistently<T>(load: () => Promise<T>): Promise<T> {
  for (;;) {
    try {
      return await load();
    } catch {
      if (await serviceAnswers()) reload();
      await new Promise((done) => setTimeout(done, againAfter));
    }
  }
}

async function serviceAnswers(): Promise<boolean> {
  try {
    return (await fetch('/healthz', { cache: 'no-store' })).ok;
  } catch {
    return false;
  }
}

function reload() {
  if (Date.now() - Number(sessionStorage.getItem(reloadedAt)) < reloadsEvery) return;
  sessionStorage.setItem(reloadedAt, String(Date.now()));
  window.location.reload();
}
