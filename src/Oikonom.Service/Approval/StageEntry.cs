using System.Globalization;
using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Service.Notices;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>
/// Moves a request to its next state inside a decision: finds who decides, writes what was approved into the inputs,
/// makes the steps, sends the notices. Every move of a request goes through here and through the state machine.
/// </summary>
public sealed class StageEntry(TimeProvider time, Notifier notices)
{
    public async Task EnterAsync(Session s, Case of, RequestEvent what)
    {
        var row = of.Row;
        var fromTheStart = what is RequestEvent.Planned or RequestEvent.Return;
        var open = what is RequestEvent.Planned or RequestEvent.Approve or RequestEvent.Return
            ? of.FirstOpen(fromTheStart)
            : (int)row.Stage;
        var before = (row.State, row.Stage);
        var state = row.Move(what, open, of.Stages.Count, of.Workflow.ReleasedByOperator);
        var stage = (int)row.Stage;
        var now = time.Milliseconds();
        (row.Workflow, row.UpdatedAt) = (of.Workflow.Name, Math.Max(now, row.UpdatedAt + 1));
        if (state == RequestState.Deciding && what == RequestEvent.Approve && before == (row.State, row.Stage))
        {
            // Others of the same stage still decide; its clock goes on.
            Show(row, of.StillOpen());
            s.Tell("requests", row.Id);
            return;
        }
        row.SinceAt = now;
        // A stage that was not asked is on the record, whatever the request goes on to.
        if (what is RequestEvent.Planned or RequestEvent.Approve or RequestEvent.Return)
            await SkippedAsync(s, of, stage);
        (row.StageTitle, row.Deciders, row.DeciderRole, row.DeciderWhy, row.Ballots) = ("", "", "", "", "[]");
        (row.Clock, row.ClockAt, row.Late) = ("{}", null, 0);
        switch (state)
        {
            case RequestState.Deciding:
                await EnterStageAsync(s, of, stage);
                break;
            case RequestState.Releasing:
                EnterRelease(of);
                TellReleasers(s, of);
                break;
            case RequestState.Fulfilling:
                row.PlanBefore = null;
                await PutOnAsync(s, of);
                await ApplyAsync(s, of);
                await NameAsync(s, of);
                await MakeStepsAsync(s, of);
                break;
            case RequestState.Completed:
                await EndNeedlessAsync(s, of, now);
                break;
            case RequestState.Declined or RequestState.Withdrawn or RequestState.Lapsed:
                row.CompletedAt = now;
                await s.ReleaseNamesAsync(row.PersonId);
                await s.ReleaseNumbersAsync(row.PersonId);
                break;
        }
        if (row.Waited.Length > 0 && state is RequestState.Deciding or RequestState.Releasing)
        {
            // It waits for the same as before it was planned anew, and so since then.
            row.SinceAt = Waiting.FromJson(row.Waited).Since(row) ?? row.SinceAt;
            row.Waited = "";
        }
        s.Tell("requests", row.Id);
    }

    private async Task EndNeedlessAsync(Session s, Case of, long now)
    {
        var row = of.Row;
        (row.CompletedAt, row.Outcome) = (now, RequestOutcome.Needless);
        await PutOnAsync(s, of);
        s.Record(LedgerEntry.Of(time.GetUtcNow(), "oikonom", "request.completed", row.PersonId, row.Id, ("note", "nothing to change")));
        notices.ToRequester(s, of, NoticeEvents.Completed, new() { ["text"] = "nothing needed to change" });
    }

    private async Task EnterStageAsync(Session s, Case of, int index)
    {
        var (row, stage) = (of.Row, of.Stages[index].Rule);
        of.Replace(of.Stages[index].Ballots);
        var open = of.StillOpen();
        row.Ballots = JsonSerializer.Serialize(of.Open, JsonSerializerOptions.Web);
        row.StageTitle = stage.Title;
        Show(row, open);
        StartClock(of, stage, 0);
        var values = new Dictionary<string, string>
        {
            ["stage"] = stage.Title,
            ["as"] = row.DeciderWhy,
            ["due"] = DueText(of),
            ["effect"] = Effect(of),
        };
        var again = of.Decisions.Where(d => d.Verdict == "approved" && d.Stage == stage.Name).Select(d => d.Actor).ToHashSet();
        foreach (var user in of.Deciding(open))
            notices.To(
                s,
                of,
                user,
                again.Contains(user.Name) ? NoticeEvents.Changed : NoticeEvents.Decide,
                again.Contains(user.Name) ? new(values) { ["text"] = WhatIsNew(of) } : values
            );
        foreach (
            var (owner, delegate_) in of
                .Delegations.Where(d => d.Covers(row.Kind, time.GetUtcNow()) && of.Deciding(open).Any(u => u.Name == d.From))
                .Select(d => (d.From, of.User(d.To)))
        )
            if (delegate_ is not null)
                notices.To(s, of, delegate_, NoticeEvents.Decide, new(values) { ["as"] = $"{row.DeciderWhy}, for {owner}" });
    }

    private static string WhatIsNew(Case of) => of.Row.PlanBefore is null ? "something in it is new" : "what is new is marked";

    /// <summary>Writes down which of the stages before one were not asked, and why; each once in a round.</summary>
    private async Task SkippedAsync(Session s, Case of, int before)
    {
        foreach (
            var (skipped, why) in of.Stages.Take(before).Where(a => a.SkippedBecause is not null).Select(a => (a.Rule, a.SkippedBecause!))
        )
            if (!of.Decisions.Any(d => d.Verdict == "skipped" && d.Stage == skipped.Name && d.Remark == why && d.Round == of.Row.Round))
                await SkippedAsync(s, of, skipped, why);
    }

    private async Task SkippedAsync(Session s, Case of, Stage stage, string why)
    {
        await s.AddDecisionAsync(
            new()
            {
                RequestId = of.Row.Id,
                Stage = stage.Name,
                StageTitle = stage.Title,
                Actor = "oikonom",
                Verdict = "skipped",
                Remark = why,
                Digest = of.Row.PlanDigest ?? "",
                Round = of.Row.Round,
                At = time.Milliseconds(),
            }
        );
        s.Record(
            LedgerEntry.Of(
                time.GetUtcNow(),
                "oikonom",
                "request.stage-skipped",
                of.Row.PersonId,
                of.Row.Id,
                ("stage", stage.Title),
                ("why", why)
            )
        );
    }

    /// <summary>Each thing to release is told once to who releases it; what is urgent waits for no quiet hours.</summary>
    private void TellReleasers(Session s, Case of)
    {
        // Oikonom's own requests of a roll-out are let pass as a whole.
        if (of.Row.Rollout.Length > 0)
            return;
        var values = new Dictionary<string, string> { ["effect"] = Effect(of), ["text"] = of.Wish.Urgent ? " It is urgent." : "" };
        if (of.Row.Deciders.Length == 0)
            notices.ToRole(s, of, of.Row.DeciderRole, NoticeEvents.Release, values);
        else
            foreach (var name in of.Row.Deciders.Split('|', StringSplitOptions.RemoveEmptyEntries))
                if (of.User(name) is { } user)
                    notices.To(s, of, user, NoticeEvents.Release, values);
    }

    private static void EnterRelease(Case of)
    {
        var by = of.Workflow.ReleasedBy;
        var row = of.Row;
        if (by.Relation == "group")
        {
            var users = of
                .Parties.Where(p =>
                    p.Active
                    && p.Number is { Length: > 0 } n
                    && of.Edition.Rulebook.Groups.GetValueOrDefault(by.Argument)?.Contains(n) == true
                    && p.Roles.Contains("operator")
                )
                .Select(p => p.UserName)
                .ToList();
            if (users.Count > 0)
            {
                (row.Deciders, row.DeciderWhy) = ($"|{string.Join('|', users)}|", Approvers.Title(by));
                return;
            }
        }
        (row.DeciderRole, row.DeciderWhy) = (
            by.Relation == "role" ? by.Argument : "operator",
            $"anyone with the role {(by.Relation == "role" ? by.Argument : "operator")}"
        );
    }

    /// <summary>Whom the request waits on, in the words and columns of lists.</summary>
    public static void Show(RequestRow row, IReadOnlyList<Ballot> open)
    {
        var users = open.SelectMany(b => b.Deciders.UserNames).Distinct().Order(StringComparer.Ordinal).ToList();
        row.Deciders = users.Count == 0 ? "" : $"|{string.Join('|', users)}|";
        row.DeciderRole = open.Select(b => b.Deciders).FirstOrDefault(d => d.UserNames.Count == 0)?.Role ?? "";
        row.DeciderWhy = string.Join(
            "; ",
            open.Select(b => b.TooFew is null ? b.Deciders.Why : $"{b.Deciders.Why} ({b.TooFew})").Distinct()
        );
    }

    private void StartClock(Case of, Stage stage, int level)
    {
        var hours = of.Edition.Rulebook.HoursOf(of.Person.Site);
        var now = time.GetUtcNow();
        var clock = new StageClock(
            stage.Deadline is { } d ? hours.After(now, d).ToUnixTimeMilliseconds() : null,
            stage.Remind is { } r ? hours.After(now, r).ToUnixTimeMilliseconds() : null,
            level
        );
        (of.Row.Clock, of.Row.ClockAt) = (clock.ToJson(), clock.Next);
    }

    public static string DueText(Case of) =>
        StageClock.FromJson(of.Row.Clock).Deadline is { } due
            ? $"by {TimeZoneInfo.ConvertTime(due.ToInstant(), of.Edition.Rulebook.ZoneOf(of.Person.Site)):yyyy-MM-dd HH:mm} at "
                + $"{of.Edition.Rulebook.Sites.GetValueOrDefault(of.Person.Site)?.Title ?? of.Person.Site}"
            : "without a date";

    /// <summary>The whole effect in a few lines, as a mail tells it.</summary>
    public static string Effect(Case of)
    {
        var lines = of
            .Plan.Changes.Where(c => c is not Change.Verify)
            .Select(c =>
                "- "
                + RequestViews.Text(c, of.Edition.Rulebook.Targets.GetValueOrDefault(c.Target))
                + (c.Due is { } due ? $" ({due.UtcDateTime:yyyy-MM-dd})" : "")
            )
            .ToList();
        return string.Join('\n', lines.Take(12)) + (lines.Count > 12 ? $"\n- and {lines.Count - 12} more" : "");
    }

    /// <summary>The person is from here on on the edition their plan was made under.</summary>
    /// <exception cref="RefusedMove">They were put on another one since.</exception>
    private async Task PutOnAsync(Session s, Case of)
    {
        var (row, plan, now) = (of.Row, of.Plan, time.GetUtcNow());
        // Which rules somebody is on has to do with requests about them alone.
        if (row.SubjectKind != SubjectKind.Person)
            return;
        var on = await s.EditionOfAsync(row.PersonId);
        if (on != row.OnEdition)
            throw new RefusedMove(
                "edition-changed",
                $"{of.Person.Display} was put on edition {on} of the rulebook since this was planned; it is planned anew."
            );
        // Someone who is on none yet is put on one by their first plan; a plan for somebody else says so.
        if (on == plan.Edition || (on > 0 && plan.From is null))
            return;
        await s.PutOnEditionAsync([row.PersonId], on, plan.Edition, now.ToUnixTimeMilliseconds());
        s.Record(
            LedgerEntry.Of(
                now,
                "oikonom",
                "person.edition",
                row.PersonId,
                row.Id,
                ("edition", plan.Edition),
                ("from", on > 0 ? on : null),
                ("rollout", row.Rollout.Length > 0 ? row.Rollout : null)
            )
        );
    }

    /// <summary>Writes what was approved into the inputs; from here on the one function answers with it.</summary>
    private async Task ApplyAsync(Session s, Case of)
    {
        var (row, wish, now) = (of.Row, of.Wish, time.GetUtcNow());
        if (!wish.ChangesInputs)
            return;
        var at = now.ToUnixTimeMilliseconds();
        if (row.SubjectKind == SubjectKind.Account)
        {
            await s.SetEndAsync(row.SubjectId, wish.EndAt(now)?.ToUnixTimeMilliseconds(), at);
            // What was to end it by an earlier decision is looked at now: it is not wanted any more, and its request says so.
            await s.LookAtOthersAsync(row.SubjectId, row.Id, at);
            return;
        }
        var rulebook = of.Edition.Rulebook;
        var bare = Inputs.Of(of.Person, [], rulebook);
        var person = new Subject(PersonId.Parse(of.Person.Id), bare.Said[0], new Dictionary<AccountKey, string>())
        {
            Others = [.. bare.Said.Skip(1)],
        };
        var reason = new Reason("request", row.Number.ToString(CultureInfo.InvariantCulture), wish.Reason);
        var subject = wish.Apply(person, rulebook, reason, now);
        foreach (var ended in wish.Ends ?? [])
            await s.EndExtraAsync(row.PersonId, "grant", ended, at, row.Id);
        if (wish.Ends is { Count: > 0 } ends)
            await TellTakenAsync(s, of, ends);
        await AddInputsAsync(s, row, subject, reason, now);
        if (subject.Fields.Count > 0 || subject.Endings.Count > 0)
            await ShowAsync(s, of, now);
    }

    /// <summary>Who loses access before its time hears of it from whom, and why; who gave it back knows.</summary>
    private async Task TellTakenAsync(Session s, Case of, IReadOnlyList<string> keys)
    {
        var theirs = of.Users.FirstOrDefault(u => u.Active == 1 && of.Parties.First(p => p.UserName == u.Name).IsBeneficiary(of.About));
        if (theirs?.Name == of.Row.Requester)
            return;
        var titles = keys.Select(k => EntitlementKey.TryParse(k, out var key) ? of.Edition.Rulebook.Find(key)?.Title ?? k : k);
        var values = new Dictionary<string, string>
        {
            ["by"] = of.User(of.Row.Requester)?.Display ?? of.Row.Requester,
            ["text"] = of.Wish.Reason.Length > 0 ? of.Wish.Reason : "no reason was given",
            ["effect"] = string.Join('\n', titles.Select(t => $"- {t}")),
        };
        if (theirs is not null)
            notices.To(s, of, theirs, NoticeEvents.Taken, values);
        else if (await MailOfAsync(s, of.Row.PersonId) is { } mail)
            notices.ToAddress(s, of, mail, of.Person.Display, NoticeEvents.Taken, values);
    }

    /// <summary>The mail address in an account of somebody (<c>mail</c>, RFC 4524 section 2.16), or null.</summary>
    private static async Task<string?> MailOfAsync(Session s, string person) =>
        (await Recorded.LoadAsync(s, [person]))
            .State(person)
            .Accounts.Values.Where(a => a.Enabled)
            .Select(a => a.Attributes.GetValueOrDefault("mail")?.FirstOrDefault())
            .FirstOrDefault(mail => MimeKit.MailboxAddress.TryParse(mail, out _));

    /// <summary>What a request wrote into the inputs holds no more, and what it ended holds again.</summary>
    /// <param name="kept">Entitlements whose grants hold on: something else ends them.</param>
    public async Task TakeBackAsync(Session s, Case of, IReadOnlyCollection<string> kept)
    {
        var (row, now) = (of.Row, time.GetUtcNow());
        var at = now.ToUnixTimeMilliseconds();
        if (row.SubjectKind == SubjectKind.Account)
        {
            await s.SetEndAsync(row.SubjectId, null, at);
            return;
        }
        await s.TakeBackInputsAsync(row.Id, kept, at);
        await ShowAsync(s, of, now);
    }

    /// <summary>The names that a plan gives to accounts are theirs from its approval on; of what is made or taken over, nothing that
    /// was approved before counts any more.</summary>
    private async Task NameAsync(Session s, Case of)
    {
        var (row, now) = (of.Row, time.GetUtcNow());
        var changes = of
            .Plan.Changes.Where(c =>
                c is Change.CreateAccount or Change.AdoptAccount
                || RequestViews.RenameOf(c, of.Edition.Rulebook.Targets.GetValueOrDefault(c.Target)) is not null
            )
            .ToList();
        if (row.SubjectKind == SubjectKind.Account || changes.Count == 0)
            return;
        var accounts = (await s.AccountsAsync([row.PersonId])).ToDictionary(Recorded.KeyOf, a => a.Name);
        var names = new List<ExtraRow>();
        foreach (var change in changes)
        {
            var account = change.Account.ToString();
            await s.EndExtraAsync(row.PersonId, Inputs.NameKind, account, now.ToUnixTimeMilliseconds(), row.Id);
            if (change is not Change.ChangeAccount || accounts.GetValueOrDefault(change.Account) is not { } had || had == change.Entry.Name)
                continue;
            var reason = JsonSerializer.Serialize(change.Reason);
            names.Add(Extra(row, now, reason, Inputs.NameKind, account, now.ToUnixTimeMilliseconds(), null, "", change.Entry.Name));
            s.Record(
                LedgerEntry.Of(
                    now,
                    row.Requester,
                    "account.named",
                    row.PersonId,
                    row.Id,
                    ("account", account),
                    ("before", had),
                    ("name", change.Entry.Name)
                )
            );
        }
        await s.AddExtrasAsync(names);
    }

    /// <summary>Each input stands beside those that are there; of the same kind and subject the newer one holds.</summary>
    private static async Task AddInputsAsync(Session s, RequestRow row, Subject subject, Reason reason, DateTimeOffset now)
    {
        var at = now.ToUnixTimeMilliseconds();
        var because = JsonSerializer.Serialize(reason);
        var extras = new List<ExtraRow>();
        foreach (var grant in subject.Extra)
        {
            var key = grant.Key.ToString();
            await s.EndExtraAsync(row.PersonId, "grant", key, at, row.Id);
            await s.EndExtraAsync(row.PersonId, "refusal", key, at, row.Id);
            extras.Add(Extra("grant", key, grant.From.ToUnixTimeMilliseconds(), grant.Until?.ToUnixTimeMilliseconds()));
        }
        foreach (var asked in subject.Asked)
        {
            await s.EndExtraAsync(row.PersonId, "template", asked.Template, at, row.Id);
            extras.Add(Extra("template", asked.Template, asked.From.ToUnixTimeMilliseconds(), asked.Until?.ToUnixTimeMilliseconds()));
        }
        foreach (var refused in subject.Refused)
            extras.Add(Extra("refusal", refused, at, null));
        foreach (var field in subject.Fields)
        {
            await s.EndFieldAsync(row.PersonId, field.Employment, field.Name, field.From.ToUnixTimeMilliseconds(), at, row.Id);
            // Another last day, decided by people, is the one that holds.
            if (field.Name == BuiltIn.End)
                await s.TakeBackEndingAsync(row.PersonId, field.Employment, at, row.Id);
            extras.Add(Extra(Inputs.FieldKind, field.Name, field.From.ToUnixTimeMilliseconds(), null, field.Employment, field.Text));
        }
        foreach (var ending in subject.Endings)
            extras.Add(
                Extra(
                    Inputs.EndKind,
                    BuiltIn.End,
                    ending.At.ToUnixTimeMilliseconds(),
                    null,
                    ending.Employment,
                    ending.Start.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)
                )
            );
        await s.AddExtrasAsync(extras);

        ExtraRow Extra(string kind, string subject, long from, long? until, string employment = "", string value = "") =>
            StageEntry.Extra(row, now, because, kind, subject, from, until, employment, value);
    }

    private static ExtraRow Extra(
        RequestRow row,
        DateTimeOffset now,
        string because,
        string kind,
        string subject,
        long from,
        long? until,
        string employment,
        string value
    ) =>
        new()
        {
            Id = Guid.CreateVersion7(now).ToString(),
            PersonId = row.PersonId,
            Kind = kind,
            Subject = subject,
            Employment = employment,
            Value = value,
            FromAt = from,
            UntilAt = until,
            Reason = because,
            RequestId = row.Id,
        };

    private static async Task ShowAsync(Session s, Case of, DateTimeOffset now)
    {
        var (row, rulebook) = (of.Row, of.Edition.Rulebook);
        var inputs = Inputs.Of(of.Person, await s.ExtrasAsync([row.PersonId]), rulebook);
        await inputs.ShowAsync(s, of.Person, rulebook, row.Requester, row.Id, now);
    }

    private async Task MakeStepsAsync(Session s, Case of)
    {
        var now = time.GetUtcNow();
        var row = of.Row;
        await s.AddStepsAsync([
            .. of.Plan.Changes.Select(change => new StepRow
            {
                Id = Guid.CreateVersion7(now).ToString(),
                RequestId = row.Id,
                SubjectId = row.SubjectId,
                Target = change.Target,
                Ordinal = change.Ordinal,
                Change = JsonSerializer.Serialize(change, JsonSerializerOptions.Web),
                DueAt = (change.Due ?? now).ToUnixTimeMilliseconds(),
                Later = change.Later ? 1 : 0,
                Removes = change.TakesAway ? 1 : 0,
            }),
        ]);
        await MoveOthersAsync(s, of, now);
        await DropOthersAsync(s, of, now);
        await s.LookAgainAsync([row.PersonId], now.ToUnixTimeMilliseconds());
        if (of.Plan.Changes.Any(c => !c.Later))
            return;
        // All that was approved lies later, or changes an input alone; nothing is left to wait for.
        var nothing = of.Plan.Changes.Count == 0;
        row.Move(RequestEvent.Finished, 0, of.Stages.Count);
        (row.CompletedAt, row.Outcome) = (now.ToUnixTimeMilliseconds(), RequestOutcome.Done);
        s.Record(
            LedgerEntry.Of(
                now,
                "oikonom",
                "request.completed",
                row.PersonId,
                row.Id,
                ("note", nothing ? "recorded; no target changes" : "what it changes lies later")
            )
        );
        notices.ToRequester(
            s,
            of,
            NoticeEvents.Completed,
            new() { ["text"] = nothing ? "it is recorded, and no target needed to change" : "what it changes is scheduled" }
        );
    }

    /// <summary>What other requests would take away later, and this one takes away now, is said there to be done with: unless
    /// it is to be given again in between.</summary>
    private static async Task DropOthersAsync(Session s, Case of, DateTimeOffset now)
    {
        var taken = of.Plan.Changes.Where(c => c.TakesAway && !(c.Due > now)).Select(c => c.Key).ToHashSet();
        if (taken.Count == 0)
            return;
        taken.ExceptWith(of.Plan.Changes.Where(c => !c.TakesAway && c is not Change.Verify && c.Due > now).Select(c => c.Key));
        var ahead = (await s.AheadInOthersAsync(of.Row.SubjectId, of.Row.Id, now.ToUnixTimeMilliseconds()))
            .Select(x => (Step: x, Change: JsonSerializer.Deserialize<Change>(x.Change, JsonSerializerOptions.Web)!))
            .ToList();
        taken.ExceptWith(ahead.Where(x => x.Change is { TakesAway: false } and not Change.Verify).Select(x => x.Change.Key));
        var over = ahead.Where(x => x.Change.TakesAway && taken.Contains(x.Change.Key)).ToList();
        if (over.Count == 0)
            return;
        var left = ahead
            .Except(over)
            .Where(x => x.Change is not Change.Verify)
            .Select(x => (x.Step.RequestId, x.Step.DueAt, x.Change.Account))
            .ToHashSet();
        // With nothing left to be done on a day, nothing is read back on it.
        var readBack = ahead.Where(x =>
            x.Change is Change.Verify
            && over.Exists(o => (o.Step.RequestId, o.Step.DueAt, o.Change.Account) == (x.Step.RequestId, x.Step.DueAt, x.Change.Account))
            && !left.Contains((x.Step.RequestId, x.Step.DueAt, x.Change.Account))
        );
        await s.DropStepsAsync(
            [.. over.Concat(readBack).Select(x => (x.Step.Id, $"request {of.Row.Number} does it at once"))],
            now.ToUnixTimeMilliseconds()
        );
        foreach (var request in over.Select(o => o.Step.RequestId).Distinct())
            s.Tell("requests", request);
    }

    /// <summary>What other requests would do to the same thing on another day, such as wake an account on a first day that was put
    /// off, they do on the day that holds now, and say so.</summary>
    private static async Task MoveOthersAsync(Session s, Case of, DateTimeOffset now)
    {
        var days = of
            .Plan.Changes.Where(c => c.Due > now && c is not Change.Verify)
            .GroupBy(c => (c.Kind, c.Key))
            .Where(g => g.Count() == 1)
            .ToDictionary(g => g.Key, g => g.Single().Due!.Value.ToUnixTimeMilliseconds());
        if (days.Count == 0)
            return;
        var ahead = (await s.AheadInOthersAsync(of.Row.SubjectId, of.Row.Id, now.ToUnixTimeMilliseconds()))
            .Select(x => (Step: x, Change: JsonSerializer.Deserialize<Change>(x.Change, JsonSerializerOptions.Web)!))
            .ToList();
        var moved = ahead
            .Where(x => days.TryGetValue((x.Change.Kind, x.Change.Key), out var day) && day != x.Step.DueAt)
            .Select(x => (x.Step, x.Change, Day: days[(x.Change.Kind, x.Change.Key)]))
            .ToList();
        // What was to be read back with it is read back on its new day.
        var readBack = ahead
            .Where(x => x.Change is Change.Verify)
            .Select(x =>
                (
                    x.Step.Id,
                    Day: moved
                        .Where(m =>
                            (m.Step.RequestId, m.Step.DueAt, m.Change.Account) == (x.Step.RequestId, x.Step.DueAt, x.Change.Account)
                        )
                        .Select(m => (long?)m.Day)
                        .Max()
                )
            )
            .Where(x => x.Day is not null)
            .Select(x => (x.Id, x.Day!.Value));
        await s.PutOnAnotherDayAsync([.. moved.Select(m => (m.Step.Id, m.Day)), .. readBack]);
        foreach (var request in moved.Select(m => m.Step.RequestId).Distinct())
            s.Tell("requests", request);
    }
}
