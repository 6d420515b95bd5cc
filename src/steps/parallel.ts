/** How many files are worked on at once; local disks gain little from more. */
const atOnce = 8;

/** Works on items in their order, several at once; the first error ends all. */
export async function inParallel<T>(
  items: readonly T[],
  signal: AbortSignal,
  work: (item: T) => Promise<void>,
): Promise<void> {
  let next = 0;
  const worker = async () => {
    while (next < items.length) {
      signal.throwIfAborted();
      await work(items[next++]!);
    }
  };
  try {
    await Promise.all(Array.from({ length: atOnce }, worker));
  } finally {
    next = items.length;
  }
}
