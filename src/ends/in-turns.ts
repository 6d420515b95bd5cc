/** Works on items in their order, several at once; the first error ends all. */
export async function inTurns<T>(
  items: readonly T[],
  atOnce: number,
  signal: AbortSignal | undefined,
  work: (item: T) => Promise<void>,
): Promise<void> {
  let next = 0;
  const worker = async () => {
    while (next < items.length) {
      signal?.throwIfAborted();
      await work(items[next++]!);
    }
  };
  try {
    await Promise.all(Array.from({ length: Math.min(atOnce, items.length) }, worker));
  } finally {
    next = items.length;
  }
}
