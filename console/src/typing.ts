/**
 * Sends what is typed in order, one call at a time. What is typed meanwhile goes along with the next call; whoever
 * typed it is not told how that went, but whoever typed first is. After a failure nothing more is sent of what waits.
 */
export function inOrder(send: (text: string) => Promise<unknown>): (text: string) => Promise<void> {
  let waiting = "";
  let busy = false;
  return async (text) => {
    waiting += text;
    if (busy) return;
    busy = true;
    try {
      while (waiting) {
        const now = waiting;
        waiting = "";
        await send(now);
      }
    } finally {
      waiting = "";
      busy = false;
    }
  };
}
