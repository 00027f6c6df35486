import { useEffect, useState } from 'react';
import type { RulebookFileBody } from '../../api/client';

const place = 'oikonom-draft';

/** True when the document is new or reads otherwise than the published one. */
export const isChanged = (published: RulebookFileBody[], file: RulebookFileBody) =>
  published.find((p) => p.path === file.path)?.text !== file.text;

const inOrder = (files: RulebookFileBody[]) => [...files].sort((a, b) => (a.path < b.path ? -1 : 1));

/** A draft kept in this browser over the edition it began with; a newer edition begins a new one. */
export function useDraft(published: RulebookFileBody[], digest: string) {
  const [files, setFiles] = useState<RulebookFileBody[]>(() => restore(digest) ?? inOrder(published));
  const [settled, setSettled] = useState(files);
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(files), 350);
    if (files.some((f) => isChanged(published, f)) || files.length !== published.length)
      localStorage.setItem(place, JSON.stringify({ digest, files }));
    else localStorage.removeItem(place);
    return () => window.clearTimeout(timer);
  }, [files, published, digest]);
  return {
    files,
    settled,
    change: (path: string, text: string) => setFiles((all) => all.map((f) => (f.path === path ? { path, text } : f))),
    add: (path: string) =>
      setFiles((all) => inOrder([...all, { path, text: `name: ${path.split('/').at(-1)?.replace('.yaml', '') ?? ''}\n` }])),
    reset: () => setFiles(inOrder(published)),
  };
}

/** True when a draft is kept here that is not published. */
export const hasDraft = () => localStorage.getItem(place) !== null;

/** Makes these files the draft over an edition, in the place of what was there. */
export const keepDraft = (digest: string, files: RulebookFileBody[]) =>
  localStorage.setItem(place, JSON.stringify({ digest, files: inOrder(files) }));

function restore(digest: string): RulebookFileBody[] | null {
  try {
    const kept = JSON.parse(localStorage.getItem(place) ?? 'null') as { digest: string; files: RulebookFileBody[] } | null;
    return kept?.digest === digest ? kept.files : null;
  } catch {
    return null;
  }
}
