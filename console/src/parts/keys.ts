import { useEffect, useRef } from 'react';

/** One key, or two one after the other such as `g r`: what it does in words, and doing it. */
export interface Key {
  key: string;
  what: string;
  /** Says false when it has nothing to do here; then the key is offered to whoever came before. */
  run: () => unknown;
}

/** Keys of what is on the page, the latest first. */
const held: (() => Key[])[] = [];

/** How long the second key of a pair is waited for. */
const patience = 1200;

let first: { key: string; at: number } | null = null;

/** True when the key press belongs to a field or a dialog. */
function isTyping(event: KeyboardEvent): boolean {
  const at = event.target as HTMLElement | null;
  return (
    event.ctrlKey ||
    event.metaKey ||
    event.altKey ||
    !!at?.closest('input:not([type="checkbox"]):not([type="radio"]), textarea, select, [contenteditable="true"], [role="dialog"]') ||
    !!document.querySelector('[role="dialog"]')
  );
}

/** The keys of the page as they are now, those of a pair last. */
export const keysHere = () => held.flatMap((keys) => keys()).sort((a, b) => a.key.length - b.key.length);

/** The one place where a key is heard. The second key of a pair is nobody else's: "g r" goes to the requests and releases nothing. */
function press(event: KeyboardEvent) {
  if (isTyping(event)) return;
  const pair = first && event.timeStamp - first.at < patience ? `${first.key} ${event.key}` : null;
  first = null;
  const here = held.flatMap((keys) => keys());
  const sought = pair ?? event.key;
  if (!pair && here.some((k) => k.key.startsWith(`${event.key} `))) {
    first = { key: event.key, at: event.timeStamp };
    return;
  }
  for (const one of here)
    if (one.key === sought && one.run() !== false) {
      event.preventDefault();
      return;
    }
}

/** Gives keys to what is on the page, as long as it is there. */
export function useKeys(keys: Key[]) {
  const latest = useRef(keys);
  latest.current = keys;
  useEffect(() => {
    const mine = () => latest.current;
    held.unshift(mine);
    return () => void held.splice(held.indexOf(mine), 1);
  }, []);
}

/** Hears the keys; stands once, in the frame of all pages. */
export function useKeyboard() {
  useEffect(() => {
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  }, []);
}
