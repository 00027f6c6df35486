import type { Schemas } from '../../api/client';
import { count } from '../../parts/count';
import style from './Rooms.module.css';

const few = 4;

/** Attributes before and after; a new account's many stay folded. */
export function Changes({ changes }: { changes: Schemas['AttributeChangeView'][] }) {
  return (
    <details open={changes.length <= few}>
      <summary>{count(changes.length, 'attribute')}</summary>
      <table className={style.attributes}>
        <tbody>
          {changes.map((change) => (
            <tr key={change.name}>
              <th scope="row">{change.name}</th>
              <td>{change.before.length > 0 && <del>{change.before.join(', ')}</del>}</td>
              <td>{change.after.length > 0 ? <ins>{change.after.join(', ')}</ins> : 'taken away'}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}
