import { useMutation, useQuery } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { useState } from 'react';
import { type Affected, api, ask, type Rehearsal, type RulebookFileBody } from '../../api/client';
import { Button } from '../../parts/Button';
import { Choice, Filters, SearchField } from '../../parts/Field';
import { Failure, Loading, Notice } from '../../parts/Notice';
import style from '../common/Rooms.module.css';
import { Bars, Effects, Figure } from '../service/Figures';
import book from './Rulebook.module.css';

export function RehearsalView({ files, sound }: { files: RulebookFileBody[]; sound: boolean }) {
  const [hr, setHr] = useState<{ name: string; text: string } | null>(null);
  const rehearse = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/rulebook/rehearsals', { body: { files, source: null, hr: hr?.text ?? null } })),
  });
  return (
    <div className={style.stack}>
      <section className={style.sheet} aria-labelledby="rehearse">
        <h2 id="rehearse">Rehearse this draft</h2>
        <p className={style.quiet}>
          It is asked for everybody what they would have. Nothing is touched, no name and no number is reserved.
        </p>
        <div className={style.actions}>
          <Button kind="main" isDisabled={!sound || rehearse.isPending} onPress={() => rehearse.mutate()}>
            {rehearse.isPending ? 'Asking for everybody …' : 'Rehearse'}
          </Button>
          <label className={style.quiet}>
            with a file of HR records:{' '}
            <input
              type="file"
              accept=".csv,text/csv"
              onChange={async (event) => {
                const file = event.target.files?.[0];
                setHr(file ? { name: file.name, text: await file.text() } : null);
              }}
            />
          </label>
        </div>
        {!sound && <p className={style.quiet}>Mend the errors first.</p>}
        {rehearse.isError && <Failure error={rehearse.error} />}
      </section>
      {rehearse.data && <Report report={rehearse.data} />}
    </div>
  );
}

function Report({ report }: { report: Rehearsal }) {
  if (report.changed + report.failing === 0)
    return <Notice tone="good" title={`Nobody of ${report.people} would gain, lose or change anything.`} />;
  return (
    <>
      <section className={style.sheet} aria-labelledby="figures">
        <div className={style.title}>
          <h2 id="figures">Against {report.against}</h2>
          <a href={`/api/v1/rulebook/rehearsals/${report.id}/people.csv`}>Download the whole list</a>
        </div>
        <div className={book.figures}>
          <Figure count={report.changed} word="would change" />
          <Figure count={report.failing} word="cannot be planned" />
          <Figure count={report.unchanged} word="unchanged" />
          <Figure count={report.openRequests.length} word="open requests planned anew" />
          <Figure count={report.milliseconds} word={`ms for ${report.people} people`} />
        </div>
        {report.setAside > 0 && <p className={style.quiet}>{report.setAside} rows of the file would be set aside.</p>}
        {report.openRequests.length > 0 && (
          <p>
            Planned anew:{' '}
            {report.openRequests.map((r) => (
              <Link key={r.id} to="/requests/$id" params={{ id: r.id }}>
                {r.kind} {r.person} ({r.number}){' '}
              </Link>
            ))}
          </p>
        )}
      </section>
      <div className={book.halves}>
        <Bars title="By entitlement" tallies={report.byEntitlement} />
        <Bars title="By department" tallies={report.byDepartment} />
      </div>
      <People report={report} />
    </>
  );
}

function People({ report }: { report: Rehearsal }) {
  const [text, setText] = useState('');
  const [target, setTarget] = useState('');
  const [template, setTemplate] = useState('');
  const [department, setDepartment] = useState('');
  const list = useQuery({
    queryKey: ['rehearsal', report.id, text, target, template, department],
    queryFn: () =>
      ask(
        api.GET('/api/v1/rulebook/rehearsals/{id}/people', {
          params: {
            path: { id: report.id },
            query: {
              text: text || undefined,
              target: target || undefined,
              template: template || undefined,
              department: department || undefined,
              limit: 100,
            },
          },
        }),
      ),
    placeholderData: (previous) => previous,
  });
  const options = (all: string, tallies: Rehearsal['byTarget']): [string, string][] => [
    ['', all],
    ...tallies.map((t): [string, string] => [t.name, t.name]),
  ];
  return (
    <section className={style.sheet} aria-labelledby="people">
      <h2 id="people">Person by person</h2>
      <Filters>
        <SearchField label="Name or number" value={text} onChange={setText} />
        <Choice label="Entitlement" value={target} options={options('all', report.byEntitlement)} onChange={setTarget} />
        <Choice label="Template" value={template} options={options('all', report.byTemplate)} onChange={setTemplate} />
        <Choice label="Department" value={department} options={options('all', report.byDepartment)} onChange={setDepartment} />
      </Filters>
      {list.isPending && <Loading what="The list" />}
      {list.isError && <Failure error={list.error} />}
      <table className={style.grants}>
        <thead>
          <tr>
            <th scope="col">Number</th>
            <th scope="col">Person</th>
            <th scope="col">Department</th>
            <th scope="col">What would happen</th>
          </tr>
        </thead>
        <tbody>
          {list.data?.items.map((p) => (
            <Row key={p.id} person={p} />
          ))}
        </tbody>
      </table>
      {list.data?.next && <p className={style.quiet}>The first hundred are shown; narrow the filter, or download the whole list.</p>}
    </section>
  );
}

function Row({ person }: { person: Affected }) {
  return (
    <tr>
      <td>{person.number}</td>
      <td>
        <Link to="/people/$id" params={{ id: person.number }}>
          {person.name}
        </Link>
      </td>
      <td>{person.department}</td>
      <td>
        {person.problem ? (
          <span className={book.no}>
            <span>{person.problem}</span>
          </span>
        ) : (
          <Effects of={person.effects} />
        )}
      </td>
    </tr>
  );
}
