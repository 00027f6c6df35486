import { describe, expect, it } from 'vitest';
import { isIncluded, isSigned, readHeads } from './proof';

const join = (...parts: Uint8Array[]) => Uint8Array.from(parts.flatMap((p) => [...p]));
const sha = async (...parts: Uint8Array[]) => new Uint8Array(await crypto.subtle.digest('SHA-256', join(...parts)));
const hex = (bytes: Uint8Array) => [...bytes].map((b) => b.toString(16).padStart(2, '0')).join('');
const base64 = (bytes: ArrayBuffer) => btoa(String.fromCharCode(...new Uint8Array(bytes)));
const leaf = (text: string) => sha(Uint8Array.of(0), new TextEncoder().encode(text));
const node = (left: Uint8Array, right: Uint8Array) => sha(Uint8Array.of(1), left, right);

describe('proofs', () => {
  it('holds for the entry at its place, and for nothing else', async () => {
    const [a, b, c] = await Promise.all(['a', 'b', 'c'].map(leaf));
    if (!a || !b || !c) throw new Error('no leaves');
    const ab = await node(a, b);
    const root = hex(await node(ab, c));
    expect(await isIncluded('b', 1, 3, [hex(a), hex(c)], root)).toBe(true);
    expect(await isIncluded('c', 2, 3, [hex(ab)], root)).toBe(true);
    expect(await isIncluded('b!', 1, 3, [hex(a), hex(c)], root)).toBe(false);
    expect(await isIncluded('b', 0, 3, [hex(a), hex(c)], root)).toBe(false);
    expect(await isIncluded('b', 1, 3, [hex(a)], root)).toBe(false);
    expect(await isIncluded('b', 3, 3, [hex(a), hex(c)], root)).toBe(false);
  });

  it('knows the signature of a head', async () => {
    const pair = await crypto.subtle.generateKey({ name: 'ECDSA', namedCurve: 'P-256' }, true, ['sign', 'verify']);
    const key = base64(await crypto.subtle.exportKey('spki', pair.publicKey));
    const root = new Uint8Array(32).fill(7);
    const bytes = new Uint8Array(48);
    new DataView(bytes.buffer).setBigInt64(0, 5n);
    new DataView(bytes.buffer).setBigInt64(8, 1_790_000_000_000n);
    bytes.set(root, 16);
    const signature = base64(await crypto.subtle.sign({ name: 'ECDSA', hash: 'SHA-256' }, pair.privateKey, bytes));
    const head = { size: 5, root: hex(root), at: 1_790_000_000_000, signature, key: 'k' };
    expect(await isSigned(head, key)).toBe(true);
    expect(await isSigned({ ...head, size: 6 }, key)).toBe(false);
    expect(await isSigned(head, 'AAAA')).toBe(false);
  });

  it('reads heads as they were kept', () => {
    const head = '{"size":5,"root":"ab","at":1,"signature":"s","key":"k"}';
    expect(readHeads(`${head}\n\n${head}`)).toHaveLength(2);
    expect(readHeads(`[${head}]`)).toHaveLength(1);
    expect(readHeads('  ')).toHaveLength(0);
    expect(() => readHeads('{"size":"5"}')).toThrow();
    expect(() => readHeads('nothing')).toThrow();
  });
});
