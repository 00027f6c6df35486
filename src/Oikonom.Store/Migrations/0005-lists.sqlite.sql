-- All that lists choose and order by, so that finding a page reads no plan.
CREATE INDEX requests_list ON requests (number, state, late, problem, deciders, decider_role, requester, person_id, kind, created_at);
