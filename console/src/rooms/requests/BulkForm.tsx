import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask } from '../../api/client';
import { Button } from '../../parts/Button';
import { count } from '../../parts/count';
import { Field } from '../../parts/Field';
import { Failure } from '../../parts/Notice';
import style from '../common/Rooms.module.css';

const example = 'kind,person,entitlement,until,reason\naccess,E1020,directory/payments,2027-01-31,month end\n';

/** Many requests from a delimited file: looked at first, then raised row by row. */
export function BulkForm() {
  const queries = useQueryClient();
  const [csv, setCsv] = useState('');
  const [reason, setReason] = useState('');
  const [whole, setWhole] = useState(false);
  const send = useMutation({
    mutationFn: (dryRun: boolean) => ask(api.POST('/api/v1/requests/bulk', { body: { csv, dryRun, reason: reason || null, whole } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['requests'] }),
  });
  const answer = send.data;
  const looked = answer !== undefined && answer.raised === 0;
  return (
    <div className={style.stack}>
      <section className={style.sheet} aria-label="The file">
        <p className={style.quiet}>
          A file with a header: kind, person, entitlement, from, until, lastDay, urgent, template, reason, and attributes such as title.
          Several entitlements stand in one cell with semicolons between them.
        </p>
        <p>
          <input
            type="file"
            accept=".csv,text/csv"
            aria-label="File of requests"
            onChange={async (event) => {
              const file = event.target.files?.[0];
              if (file) setCsv(await file.text());
              send.reset();
            }}
          />{' '}
          <Button kind="quiet" onPress={() => setCsv(example)}>
            Show an example
          </Button>
        </p>
        <Field label="Rows" value={csv} onChange={setCsv} long />
        <Field label="Reason where a row gives none" value={reason} onChange={setReason} />
        <label>
          <input type="checkbox" checked={whole} onChange={(event) => setWhole(event.target.checked)} /> Decide on the file as a whole:
          raised only when every row is sound, and each approver says yes or no to all of their rows at once
        </label>
        <div className={style.actions}>
          <Button kind={looked ? 'plain' : 'main'} isDisabled={csv.trim().length === 0 || send.isPending} onPress={() => send.mutate(true)}>
            Look at it
          </Button>
          {looked && answer.sound > 0 && (!whole || answer.sound === answer.rows) && (
            <Button kind="main" isDisabled={send.isPending} onPress={() => send.mutate(false)}>
              Raise {count(answer.sound, 'request')}
            </Button>
          )}
        </div>
        {send.isError && <Failure error={send.error} />}
      </section>
      {answer && (
        <section className={style.sheet} aria-label="Result">
          <p className={style.effectLine}>
            {count(answer.rows, 'row')}: {answer.sound} sound, {answer.rows - answer.sound} not
            {answer.raised > 0 ? `; ${answer.raised} raised` : ''}.
          </p>
          <table className={style.grants}>
            <thead>
              <tr>
                <th scope="col">Row</th>
                <th scope="col">Kind</th>
                <th scope="col">Person</th>
                <th scope="col">Result</th>
              </tr>
            </thead>
            <tbody>
              {answer.items.map((row) => (
                <tr key={row.line}>
                  <td>{row.line}</td>
                  <td>{row.kind}</td>
                  <td>{row.person}</td>
                  <td className={row.sound ? undefined : style.bad}>
                    {row.id ? (
                      <Link to="/requests/$id" params={{ id: row.id }}>
                        request {row.number}
                      </Link>
                    ) : (
                      row.message
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
    </div>
  );
}
