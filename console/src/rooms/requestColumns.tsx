import { Link } from '@tanstack/react-router';
import type { RequestSummary } from '../api/client';
import type { Column } from '../parts/DataTable';
import { StateMark } from '../parts/StateMark';
import { ago, at, onDay } from '../parts/when';

export const requestColumns: Column<RequestSummary>[] = [
  { title: 'No.', width: '3.5rem', cell: (r) => r.number },
  {
    title: 'Person',
    width: 'minmax(11rem, 2fr)',
    cell: (r) => (
      <Link to="/requests/$id" params={{ id: r.id }}>
        {r.person}
      </Link>
    ),
  },
  { title: 'Kind', width: '4.5rem', cell: (r) => r.kind },
  { title: 'Department', width: 'minmax(8rem, 1.2fr)', cell: (r) => r.department },
  { title: 'First day', width: '7rem', cell: (r) => onDay(r.start) },
  {
    title: 'State',
    width: '9.5rem',
    cell: (r) => <StateMark state={r.problem && r.state === 'fulfilling' ? 'stopped' : r.state} title={r.problem ?? r.stateText} />,
  },
  { title: 'Waits on', width: 'minmax(7rem, 1fr)', cell: (r) => (r.completedAt ? '–' : r.waitsOn) },
  { title: 'Since', width: '5.5rem', cell: (r) => <span title={at(r.since)}>{ago(r.since)}</span> },
];
