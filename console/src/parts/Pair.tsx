import type { ReactNode } from 'react';

/** A name and its value, inside a list of facts. */
export function Pair({ name, value }: { name: ReactNode; value: ReactNode }) {
  return (
    <>
      <dt>{name}</dt>
      <dd>{value}</dd>
    </>
  );
}
