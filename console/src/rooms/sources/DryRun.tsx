import type { Schemas } from '../../api/client';
import { Button } from '../../parts/Button';
import { count } from '../../parts/count';
import { Changes } from '../common/Changes';
import style from '../common/Rooms.module.css';

/** What a run would raise: of each record what happened, with its days, and the attributes before and after. */
export function DryRun({ run, close }: { run: Schemas['IntakeRun']; close: () => void }) {
  const { requests, setAside } = run;
  return (
    <section className={style.sheet} aria-labelledby="dry">
      <div className={style.title}>
        <h2 id="dry">Dry run</h2>
        <span className={style.quiet}>{run.message} Nothing was changed.</span>
        <Button kind="quiet" onPress={close}>
          Close
        </Button>
      </div>
      {requests.length === 0 && <p className={style.quiet}>It would raise no request.</p>}
      <ol className={style.list}>
        {requests.map((request) => (
          <li key={request.kind + request.number}>
            <span>
              <b>{request.kind}</b> · {request.number} · {request.text ?? request.person}
            </span>
            {(request.changes?.length ?? 0) > 0 && <Changes changes={request.changes ?? []} />}
          </li>
        ))}
      </ol>
      {setAside.length > 0 && (
        <>
          <p>
            <b>{count(setAside.length, 'row')} would be set aside</b>
          </p>
          <ol className={style.list}>
            {setAside.map((row) => (
              <li key={`${row.file}${row.line}`}>
                <span>
                  line {row.line}
                  {row.column && ` · ${row.column} “${row.value}”`}
                </span>
                <span className={style.quiet}>{row.reason}</span>
              </li>
            ))}
          </ol>
        </>
      )}
    </section>
  );
}
