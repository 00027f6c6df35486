import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useNavigate, useSearch } from '@tanstack/react-router';
import { useEffect, useState } from 'react';
import { api, ask, type TaskView } from '../../api/client';
import { Button } from '../../parts/Button';
import { Choice, Field } from '../../parts/Field';
import { Failure, Loading } from '../../parts/Notice';
import { Pair } from '../../parts/Pair';
import { StateMark } from '../../parts/StateMark';
import { at } from '../../parts/when';
import { useMe } from '../../shell/Shell';
import rooms from '../common/Rooms.module.css';
import { useNamed, useUsers } from '../common/Who';
import style from '../today/Today.module.css';

/** Work by hand: what is due first, and what each piece asks for. */
export function DeskPage() {
  const search = useSearch({ from: '/shell/desk' });
  const navigate = useNavigate();
  const named = useNamed();
  const [all, setAll] = useState(false);
  const tasks = useQuery({
    queryKey: ['tasks', all],
    queryFn: () => ask(api.GET('/api/v1/tasks', { params: { query: { all, limit: 200 } } })),
  });
  if (tasks.isPending) return <Loading what="The desk" />;
  if (tasks.isError) return <Failure error={tasks.error} again={() => void tasks.refetch()} />;
  const rows = tasks.data.items;
  const chosen = search.task ?? rows[0]?.id;
  return (
    <>
      <header className={rooms.head}>
        <div className={rooms.line}>
          <h1>Desk</h1>
          <Button kind="quiet" onPress={() => setAll(!all)}>
            {all ? 'Open ones only' : 'Show what is over too'}
          </Button>
        </div>
        <p>
          {rows.length === 0
            ? 'Work that people do by hand.'
            : `${rows.filter((r) => r.state === 'open').length} open, ${rows.filter((r) => r.late).length} late.`}
        </p>
      </header>
      {rows.length === 0 && !search.task ? (
        <section className={rooms.sheet}>
          <p className={rooms.quiet}>Nothing is to be done by hand. New work appears here by itself.</p>
        </section>
      ) : (
        <div className={style.grid}>
          <section className={rooms.sheet} aria-label="Tasks">
            <ul className={style.plain}>
              {rows.map((t) => (
                <li key={t.id} className={style.row}>
                  <Link
                    to="/desk"
                    search={{ task: t.id }}
                    className={t.id === chosen ? rooms.chosen : undefined}
                    aria-current={t.id === chosen}
                  >
                    {t.title}
                  </Link>
                  <small>
                    {t.target}, {t.site} · {holderOf(t, named)}
                  </small>
                  <aside>
                    {t.state === 'open' ? (
                      <span className={t.late ? style.bad : undefined}>{t.late ? `late since ${at(t.due)}` : `due ${at(t.due)}`}</span>
                    ) : (
                      <StateMark state={t.state} />
                    )}
                  </aside>
                </li>
              ))}
            </ul>
          </section>
          {chosen && <Task key={chosen} id={chosen} next={() => void navigate({ to: '/desk', search: { task: undefined } })} />}
        </div>
      )}
    </>
  );
}

const isReported = (t: TaskView) => t.state === 'open' && t.reportedBy !== null;

function holderOf(t: TaskView, named: (user: string) => string): string {
  if (isReported(t)) return `done by ${named(t.reportedBy ?? '')}, to be confirmed by somebody else`;
  return t.takenBy ? `taken by ${named(t.takenBy)}` : 'nobody has it';
}

function Task({ id, next }: { id: string; next: () => void }) {
  const task = useQuery({
    queryKey: ['tasks', 'one', id],
    queryFn: () => ask(api.GET('/api/v1/tasks/{id}', { params: { path: { id } } })),
  });
  if (task.isPending) return <Loading what="The task" />;
  if (task.isError) return <Failure error={task.error} />;
  return <TaskSheet task={task.data} next={next} />;
}

function TaskSheet({ task, next }: { task: TaskView; next: () => void }) {
  const queries = useQueryClient();
  const me = useMe();
  const who = useUsers();
  const named = useNamed();
  const [fields, setFields] = useState<Record<string, string>>({});
  const [checked, setChecked] = useState<string[]>([]);
  const [words, setWords] = useState('');
  const [to, setTo] = useState('');
  useEffect(() => setFields(Object.fromEntries(task.fields.map((f) => [f.name, f.value ?? '']))), [task.fields]);
  const path = { params: { path: { id: task.id } } };
  const refresh = () =>
    Promise.all([queries.invalidateQueries({ queryKey: ['tasks'] }), queries.invalidateQueries({ queryKey: ['requests'] })]);
  const act = useMutation({
    mutationFn: (deed: 'take' | 'done' | 'impossible' | 'reopen' | 'over' | 'confirm' | 'back') => {
      if (deed === 'confirm') return ask(api.POST('/api/v1/tasks/{id}/confirm', path));
      if (deed === 'back') return ask(api.POST('/api/v1/tasks/{id}/give-back', { ...path, body: { reason: words } }));
      if (deed === 'take') return ask(api.POST('/api/v1/tasks/{id}/take', path));
      if (deed === 'over') return ask(api.POST('/api/v1/tasks/{id}/hand-over', { ...path, body: { to } }));
      if (deed === 'reopen') return ask(api.POST('/api/v1/tasks/{id}/reopen', path));
      if (deed === 'impossible') return ask(api.POST('/api/v1/tasks/{id}/impossible', { ...path, body: { reason: words } }));
      return ask(api.POST('/api/v1/tasks/{id}/done', { ...path, body: { fields, checked, remark: words || null } }));
    },
    onSuccess: async (_, deed) => {
      await refresh();
      if (deed === 'done' || deed === 'confirm') next();
    },
  });
  const attach = useMutation({
    mutationFn: async (file: File) => {
      const answer = await fetch(`/api/v1/tasks/${task.id}/evidence?name=${encodeURIComponent(file.name)}`, {
        method: 'POST',
        body: file,
        headers: { 'X-Oikonom': '1' },
      });
      if (!answer.ok) throw new Error(((await answer.json()) as { detail?: string }).detail ?? 'The file was not taken.');
    },
    onSuccess: refresh,
  });
  const reported = isReported(task);
  const open = task.state === 'open' && !reported;
  const mine = task.takenBy === null || task.takenBy === me.data?.name;
  return (
    <section className={rooms.sheet} aria-labelledby="task">
      <header className={rooms.line}>
        <h2 id="task">{task.title}</h2>
        <StateMark state={task.state} />
      </header>
      <p className={rooms.effectLine}>{task.instructions || 'No instructions are written in the rulebook.'}</p>
      <dl className={rooms.facts}>
        <Pair
          name="For"
          value={
            <Link to="/people/$id" params={{ id: task.personId }}>
              {task.person}
            </Link>
          }
        />
        <Pair
          name="Request"
          value={
            <Link to="/requests/$id" params={{ id: task.requestId }}>
              {task.requestNumber}
            </Link>
          }
        />
        <Pair name="Due" value={at(task.due)} />
        <Pair name="With" value={task.takenBy ? named(task.takenBy) : `anyone with the role ${task.role}`} />
        {task.needsSecond && !task.reportedBy && <Pair name="Then" value="somebody else confirms it" />}
        {reported && <Pair name="Done" value={`${task.reportedAt && at(task.reportedAt)} by ${named(task.reportedBy ?? '')}`} />}
        {task.doneAt && <Pair name={task.state} value={`${at(task.doneAt)} by ${named(task.doneBy ?? '')}`} />}
        {task.confirmedBy && <Pair name="Confirmed" value={`by ${named(task.confirmedBy)}`} />}
        {!open && task.fields.map((f) => <Pair key={f.name} name={f.title} value={f.value ?? '–'} />)}
        {task.remark && <Pair name="Remark" value={task.remark} />}
      </dl>
      {open && mine && (
        <form
          className={rooms.stack}
          onSubmit={(event) => {
            event.preventDefault();
            act.mutate('done');
          }}
        >
          {task.fields.map((f) => (
            <Field
              key={f.name}
              label={`${f.title}${f.mandatory ? ' *' : ''}${f.pattern ? ` (${f.pattern})` : ''}`}
              hint={f.feeds ? 'It is on the record of the person from then on.' : undefined}
              value={fields[f.name] ?? ''}
              onChange={(value) => setFields((x) => ({ ...x, [f.name]: value }))}
            />
          ))}
          {task.checks.map((check) => (
            <label key={check}>
              <input
                type="checkbox"
                checked={checked.includes(check)}
                onChange={(e) => setChecked((c) => (e.target.checked ? [...c, check] : c.filter((x) => x !== check)))}
              />{' '}
              {check}
            </label>
          ))}
          <Field label={task.needsEvidence ? 'Evidence in words, or add a file below' : 'Remark'} value={words} onChange={setWords} long />
          <label>
            Add a file (10 MB at most) <input type="file" onChange={(e) => e.target.files?.[0] && attach.mutate(e.target.files[0])} />
          </label>
          {attach.isError && <Failure error={attach.error} />}
          <Evidence task={task} />
          {act.isError && <Failure error={act.error} />}
          <div className={rooms.actions}>
            <Button kind="main" type="submit" isDisabled={act.isPending}>
              Done
            </Button>
            {task.takenBy === null && <Button onPress={() => act.mutate('take')}>Take it</Button>}
            <Button kind="grave" onPress={() => act.mutate('impossible')} isDisabled={words.trim().length === 0}>
              Not possible
            </Button>
          </div>
          <div className={rooms.line}>
            <Choice
              label="Hand over to"
              value={to}
              options={[['', 'Choose…'], ...(who.data?.items ?? []).map((u): [string, string] => [u.name, u.display])]}
              onChange={setTo}
            />
            <Button onPress={() => act.mutate('over')} isDisabled={to.trim().length === 0}>
              Hand over
            </Button>
          </div>
        </form>
      )}
      {!open && <Evidence task={task} />}
      {reported &&
        (task.reportedBy === me.data?.name ? (
          <div className={rooms.actions}>
            <p className={rooms.quiet}>You did it; somebody else looks whether it is done, and confirms it.</p>
          </div>
        ) : (
          <form
            className={rooms.stack}
            onSubmit={(event) => {
              event.preventDefault();
              act.mutate('confirm');
            }}
          >
            <Field label="What is not done, if it goes back" value={words} onChange={setWords} long />
            {act.isError && <Failure error={act.error} />}
            <div className={rooms.actions}>
              <Button kind="main" type="submit" isDisabled={act.isPending}>
                It is done
              </Button>
              <Button kind="grave" onPress={() => act.mutate('back')} isDisabled={words.trim().length === 0}>
                Give it back
              </Button>
            </div>
          </form>
        ))}
      {task.state === 'impossible' && <Button onPress={() => act.mutate('reopen')}>Open it again</Button>}
    </section>
  );
}

function Evidence({ task }: { task: TaskView }) {
  if (task.evidence.length === 0) return null;
  return (
    <ul className={rooms.list}>
      {task.evidence.map((e) => (
        <li key={e.id}>
          <a href={`/api/v1/tasks/${task.id}/evidence/${e.id}`} download={e.name}>
            {e.name}
          </a>
          <span className={rooms.quiet}>
            {Math.ceil(e.size / 1024)} kB, {e.actor}, {at(e.at)}
          </span>
        </li>
      ))}
    </ul>
  );
}
