/** A number with its word, such as "1 change" or "3 changes". */
export const count = (n: number, one: string, many = `${one}s`) => `${n.toLocaleString('en')} ${n === 1 ? one : many}`;
