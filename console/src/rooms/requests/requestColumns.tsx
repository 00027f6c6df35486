import { Link } from '@tanstack/react-router';
import type { RequestSummary } from '../../api/client';
import type { Column } from '../../parts/DataTable';
import { ended, StateMark } from '../../parts/StateMark';
import { ago, at, onDay } from '../../parts/when';
import { Who } from '../common/Who';

/** Whom or what a request is about: an account of nobody with who answers for it, else the person. */
export const aboutOf = (r: Pick<RequestSummary, 'person' | 'account'>) => (r.account ? `${r.account} (${r.person} answers)` : r.person);

export const requestColumns: Column<RequestSummary>[] = [
  { title: 'No.', minor: true, width: '3.5rem', cell: (r) => r.number },
  {
    title: 'Person',
    width: 'minmax(7rem, 2fr)',
    cell: (r) => (
      <Link to="/requests/$id" params={{ id: r.id }}>
        {aboutOf(r)}
      </Link>
    ),
  },
  { title: 'Kind', width: '4.5rem', cell: (r) => r.kind },
  { title: 'Department', minor: true, width: 'minmax(8rem, 1.2fr)', cell: (r) => r.department },
  { title: 'First day', minor: true, width: '7rem', cell: (r) => onDay(r.start) },
  {
    title: 'State',
    width: '9.5rem',
    cell: (r) => <StateMark state={r.problem && r.state === 'fulfilling' ? 'stopped' : ended(r)} title={r.problem ?? r.stateText} />,
  },
  { title: 'Waits on', minor: true, width: 'minmax(7rem, 1fr)', cell: (r) => (r.completedAt ? '–' : <Who user={r.waitsOn} />) },
  { title: 'Since', minor: true, width: '5.5rem', cell: (r) => <span title={at(r.since)}>{ago(r.since)}</span> },
];
