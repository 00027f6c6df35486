import type { Schemas } from './client';

/** SHA-256 over bytes put one after the other. */
async function hash(...parts: Uint8Array[]): Promise<Uint8Array> {
  const bytes = new Uint8Array(parts.reduce((n, p) => n + p.length, 0));
  let at = 0;
  for (const part of parts) {
    bytes.set(part, at);
    at += part.length;
  }
  return new Uint8Array(await crypto.subtle.digest('SHA-256', bytes));
}

const fromHex = (hex: string) => Uint8Array.from(hex.match(/../g) ?? [], (byte) => Number.parseInt(byte, 16));
const toHex = (bytes: Uint8Array) => Array.from(bytes, (b) => b.toString(16).padStart(2, '0')).join('');
const fromBase64 = (text: string) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0));

/** True when the browser can compute hashes: a page that came by HTTPS, or from this machine. */
export const canProve = () => globalThis.crypto?.subtle !== undefined;

/**
 * True when an entry, exactly as it was sealed, stands at its position in the tree of a head: the steps of RFC 9162
 * §2.1.3.2, computed here and not by the service.
 */
export async function isIncluded(sealed: string, index: number, size: number, proof: string[], root: string): Promise<boolean> {
  if (index < 0 || index >= size) return false;
  const node = (left: Uint8Array, right: Uint8Array) => hash(Uint8Array.of(1), left, right);
  let [at, last] = [index, size - 1];
  let now = await hash(Uint8Array.of(0), new TextEncoder().encode(sealed));
  for (const sibling of proof.map(fromHex)) {
    if (last === 0) return false;
    if (at % 2 === 1 || at === last) {
      now = await node(sibling, now);
      while (at % 2 === 0 && at !== 0) {
        at = Math.floor(at / 2);
        last = Math.floor(last / 2);
      }
    } else {
      now = await node(now, sibling);
    }
    at = Math.floor(at / 2);
    last = Math.floor(last / 2);
  }
  return last === 0 && toHex(now) === root;
}

/** True when a head is signed with a key (SubjectPublicKeyInfo in Base64): ECDSA over P-256 with SHA-256. */
export async function isSigned(head: Schemas['LedgerHead'], publicKey: string): Promise<boolean> {
  try {
    const key = await crypto.subtle.importKey('spki', fromBase64(publicKey), { name: 'ECDSA', namedCurve: 'P-256' }, false, ['verify']);
    const root = fromHex(head.root);
    const bytes = new Uint8Array(16 + root.length);
    const view = new DataView(bytes.buffer);
    view.setBigInt64(0, BigInt(head.size));
    view.setBigInt64(8, BigInt(head.at));
    bytes.set(root, 16);
    return await crypto.subtle.verify({ name: 'ECDSA', hash: 'SHA-256' }, key, fromBase64(head.signature), bytes);
  } catch {
    return false;
  }
}

/** Heads somebody kept, as they were copied: one JSON object, a list of them, or one on each line. */
export function readHeads(text: string): Schemas['LedgerHead'][] {
  const trimmed = text.trim();
  if (trimmed === '') return [];
  const lines = trimmed.startsWith('[')
    ? (JSON.parse(trimmed) as unknown[])
    : trimmed.split(/\n+/).map((line) => JSON.parse(line) as unknown);
  return lines.map((line) => {
    const head = line as Partial<Schemas['LedgerHead']>;
    if (typeof head?.size !== 'number' || typeof head.root !== 'string' || typeof head.signature !== 'string')
      throw new Error('That is no signed head.');
    return head as Schemas['LedgerHead'];
  });
}
