import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useNavigate } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask, type PersonDetail } from '../../api/client';
import { Button } from '../../parts/Button';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Field } from '../../parts/Field';
import { Failure } from '../../parts/Notice';
import { useMe } from '../../shell/Shell';

/** Ends something that is held before its time; who holds it need not say why. */
export function EndAccess({ person, entitlement, title }: { person: PersonDetail; entitlement: string; title: string }) {
  const [isOpen, setOpen] = useState(false);
  const [reason, setReason] = useState('');
  const me = useMe();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const isTheirs = me.data?.number === person.number;
  const end = useMutation({
    mutationFn: () =>
      ask(
        api.POST('/api/v1/people/{id}/access/end', {
          params: { path: { id: person.id } },
          body: { entitlement, reason: reason.trim() || null },
        }),
      ),
    onSuccess: async (request) => {
      await queries.invalidateQueries();
      await navigate({ to: '/requests/$id', params: { id: request.summary.id } });
    },
  });
  const verb = isTheirs ? 'Give back' : 'End';
  return (
    <>
      <Button kind="quiet" onPress={() => setOpen(true)} aria-label={`${verb}: ${title}`}>
        {verb}
      </Button>
      <Dialog title={`${verb}: ${title}`} isOpen={isOpen} close={() => setOpen(false)}>
        <p>
          {isTheirs
            ? `You hold ${title} no more. What you asked for ends at once; what comes with your role is decided first.`
            : `${person.name} holds ${title} no more. Their manager and its owner end it at once; else it is decided first.`}
        </p>
        <Field label={isTheirs ? 'Reason (may stay empty)' : 'Reason'} value={reason} onChange={setReason} long autoFocus />
        {end.isError && <Failure error={end.error} />}
        <DialogActions>
          <Button kind="main" onPress={() => end.mutate()} isDisabled={end.isPending || (!isTheirs && reason.trim() === '')}>
            {verb}
          </Button>
          <Button onPress={() => setOpen(false)}>Keep it</Button>
        </DialogActions>
      </Dialog>
    </>
  );
}
