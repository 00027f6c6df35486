-- The edition of the rulebook a person is on; 0 while no plan was carried out for them. Until now everybody was on the
-- newest one.
ALTER TABLE people ADD COLUMN edition BIGINT NOT NULL DEFAULT 0;
UPDATE people SET edition=(SELECT COALESCE(MAX(number),0) FROM editions) WHERE EXISTS (SELECT 1 FROM accounts a WHERE a.person_id=people.id) OR EXISTS (SELECT 1 FROM grants g WHERE g.person_id=people.id AND g.until_at IS NULL) OR EXISTS (SELECT 1 FROM extras e WHERE e.person_id=people.id);
CREATE INDEX people_edition ON people (edition) WHERE edition>0;

-- The edition the person was on when the request was planned: a plan made under another one is made anew.
ALTER TABLE requests ADD COLUMN on_edition BIGINT NOT NULL DEFAULT 0;
UPDATE requests SET on_edition=COALESCE((SELECT p.edition FROM people p WHERE p.id=requests.person_id),0) WHERE state NOT IN ('completed','declined','withdrawn','lapsed');

-- The roll-out that a request belongs to, or ''.
ALTER TABLE requests ADD COLUMN rollout TEXT NOT NULL DEFAULT '';

-- A roll-out puts people on an edition: who differs by it, decided as a whole or by department, carried out in waves.
CREATE TABLE rollouts (
    id TEXT PRIMARY KEY,
    number BIGINT NOT NULL UNIQUE,
    edition BIGINT NOT NULL,
    state TEXT NOT NULL,
    author TEXT NOT NULL,
    agreed TEXT NOT NULL,
    made_at BIGINT NOT NULL,
    people BIGINT NOT NULL,
    losing BIGINT NOT NULL,
    same BIGINT NOT NULL,
    failing BIGINT NOT NULL,
    report TEXT NOT NULL,
    brake TEXT NOT NULL DEFAULT '',
    released_by TEXT NOT NULL DEFAULT '',
    wave BIGINT NOT NULL DEFAULT 0,
    wave_size BIGINT NOT NULL DEFAULT 0,
    pause BIGINT,
    next_at BIGINT,
    turning BIGINT,
    problem TEXT NOT NULL DEFAULT '',
    updated_at BIGINT NOT NULL
);

CREATE TABLE rollout_people (
    rollout_id TEXT NOT NULL,
    person_id TEXT NOT NULL,
    department TEXT NOT NULL,
    from_edition BIGINT NOT NULL,
    effects TEXT NOT NULL,
    digest TEXT NOT NULL,
    loses BIGINT NOT NULL,
    state TEXT NOT NULL,
    wave BIGINT NOT NULL DEFAULT 0,
    request_id TEXT NOT NULL DEFAULT '',
    problem TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (rollout_id, person_id)
);
CREATE INDEX rollout_people_states ON rollout_people (rollout_id, state, department);
CREATE INDEX rollout_people_waves ON rollout_people (rollout_id, wave, state);
CREATE INDEX rollout_people_persons ON rollout_people (person_id);

CREATE TABLE rollout_decisions (
    rollout_id TEXT NOT NULL,
    department TEXT NOT NULL,
    actor TEXT NOT NULL,
    verdict TEXT NOT NULL,
    remark TEXT NOT NULL,
    digest TEXT NOT NULL,
    people BIGINT NOT NULL,
    at BIGINT NOT NULL
);
CREATE INDEX rollout_decisions_of ON rollout_decisions (rollout_id, at);
