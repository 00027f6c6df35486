import { useMutation, useQuery } from '@tanstack/react-query';
import { useParams } from '@tanstack/react-router';
import { api, ask, Refusal } from '../../api/client';
import { Button } from '../../parts/Button';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { onDay } from '../../parts/when';
import style from '../common/Rooms.module.css';

/** Shows a first password once. It is made when the button is pressed, and kept nowhere. */
export function HandoverPage() {
  const { token } = useParams({ from: '/shell/handover/$token' });
  const path = { params: { path: { token } } };
  const link = useQuery({
    queryKey: ['handover', token],
    queryFn: () => ask(api.GET('/api/v1/handovers/{token}', path)),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const open = useMutation({ mutationFn: () => ask(api.POST('/api/v1/handovers/{token}', path)), gcTime: 0 });
  if (link.isPending) return <Loading what="The link" />;
  if (link.isError)
    return (
      <>
        <Failure error={link.error} />
        <AskAgain token={token} error={link.error} />
      </>
    );
  return (
    <section className={style.sheet}>
      <div className={style.stack}>
        <h1>First password for {link.data.person}</h1>
        {open.data ? (
          <>
            <p>
              The account <b>{open.data.account}</b> now has this password. It is shown this once; write it down for {open.data.person}, who
              changes it at the first use.
            </p>
            <p>
              <output className={style.password} aria-label="Password">
                {open.data.password}
              </output>
            </p>
          </>
        ) : (
          <>
            <p>
              For the account <b>{link.data.account}</b>. The link works once and holds until {onDay(link.data.expiresAt)}. The password is
              made when you press the button; nobody else sees it.
            </p>
            {open.isError && (
              <>
                <Failure error={open.error} />
                <AskAgain token={token} error={open.error} />
              </>
            )}
            <div className={style.actions}>
              <Button kind="main" isDisabled={open.isPending} onPress={() => open.mutate()}>
                Show the password once
              </Button>
            </div>
          </>
        )}
      </div>
    </section>
  );
}

/** A link that is over or used: its receiver has another sent. */
function AskAgain({ token, error }: { token: string; error: Error }) {
  const again = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/handovers/{token}/again', { params: { path: { token } } })),
  });
  if (!(error instanceof Refusal) || (error.code !== 'link-over' && error.code !== 'link-used')) return null;
  if (again.data) return <Notice tone="good" title={`A new link went to ${again.data.receivers.join(', ')}`} />;
  return (
    <>
      {again.isError && <Failure error={again.error} />}
      <div className={style.actions}>
        <Button onPress={() => again.mutate()} isDisabled={again.isPending}>
          Send a new link
        </Button>
      </div>
    </>
  );
}
