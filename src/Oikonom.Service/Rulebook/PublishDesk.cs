using System.Globalization;
using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Service.Fulfilment;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Rulebook;

/// <summary>Checks and publishes rulebooks; where the rulebook says so, a second person agrees before an edition counts.</summary>
public sealed class PublishDesk(
    Store.Store store,
    EditionBook editions,
    RehearsalDesk rehearsals,
    ConnectorBook connectors,
    SecretBook secrets,
    RequestDesk requests,
    RollOutDesk rollouts,
    TimeProvider time
)
{
    /// <summary>Reads a rulebook with the warnings that only the users at hand can tell.</summary>
    public async Task<RulebookReading> ReadAsync(IReadOnlyList<RulebookFile> files, CancellationToken cancel)
    {
        var reading = RulebookReader.Read(files);
        if (reading.Rulebook is not { } rulebook)
            return reading;
        var numbers = Warnings.Numbers(rulebook).Select(n => n.Number).Distinct().ToList();
        // Before anybody was taken in, nobody is known.
        var (users, unknown) = await store.ReadAsync(
            async s => (await s.UsersAsync(), await s.PeopleCountAsync() > 0 ? await s.UnknownNumbersAsync(numbers) : []),
            cancel
        );
        var roles = users.Where(u => u.Active == 1).SelectMany(u => u.Roles.Split(' ')).ToHashSet(StringComparer.Ordinal);
        return reading with
        {
            Warnings =
            [
                .. reading.Warnings,
                .. Warnings.WithRoles(rulebook, roles),
                .. Warnings.WithNumbers(rulebook, unknown.ToHashSet(StringComparer.Ordinal)),
            ],
        };
    }

    /// <summary>What the targets themselves say of the attributes that the rulebook names.</summary>
    private async Task<IReadOnlyList<Finding>> CompareAsync(Core.Rulebook.Rulebook rulebook, CancellationToken cancel)
    {
        var found = new List<Finding>();
        foreach (var target in rulebook.Targets.Values.Where(t => t.HasAccounts))
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            limit.CancelAfter(Patience);
            try
            {
                await using var connector = connectors.MakeOnce(rulebook, target);
                if (connector is IAccountConnector accounts && await accounts.SchemaAsync(limit.Token) is { } schema)
                    found.AddRange(Warnings.WithSchema(rulebook, target, schema, ""));
            }
            catch (TargetFault fault)
            {
                found.AddRange(Warnings.WithSchema(rulebook, target, null, fault.Message));
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                found.AddRange(Warnings.WithSchema(rulebook, target, null, $"it did not answer within {Patience.TotalSeconds} seconds."));
            }
        }
        return found;
    }

    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);

    public async Task<(RulebookCheck Check, Core.Rulebook.Rulebook? Rulebook)> CheckAsync(
        IReadOnlyList<RulebookFile> files,
        bool quick,
        CancellationToken cancel
    )
    {
        var reading = await ReadAsync(files, cancel);
        var warnings = reading.Warnings;
        if (reading.Rulebook is { } sound && !quick)
            warnings = [.. warnings, .. await CompareAsync(sound, cancel)];
        if (reading.Rulebook is { } rulebook && !quick && await store.ReadAsync(s => s.PeopleCountAsync(), cancel) > 0)
        {
            var report = await rehearsals.LookAsync(null, rulebook, [], cancel);
            warnings = [.. warnings, .. Warnings.WithPeople(rulebook, report.PeopleByTemplate)];
        }
        return (
            new(
                reading.Rulebook is not null,
                RulebookReader.Digest(files),
                [.. reading.Findings.Select(RulebookFiles.View)],
                [.. warnings.OrderBy(w => w.Place.File, StringComparer.Ordinal).ThenBy(w => w.Place.Line).Select(RulebookFiles.View)]
            ),
            reading.Rulebook
        );
    }

    public async Task<Published> PublishAsync(IReadOnlyList<RulebookFile> files, ClaimsPrincipal user, CancellationToken cancel)
    {
        var reading = RulebookReader.Read(files);
        if (reading.Rulebook is null)
            throw RulebookFiles.Unsound(reading);
        var digest = RulebookReader.Digest(files);
        var current = await editions.CurrentOrNullAsync(cancel);
        if (current?.Digest == digest)
            throw Problem.Conflict("unchanged", $"Edition {current.Number} already is exactly this rulebook.");
        if (current is null || !await NeedsSecondAsync(current.Rulebook, reading.Rulebook, user, cancel))
            return await CommitAsync(files, reading.Rulebook, digest, user.UserName(), "", null, cancel);
        var proposal = new ProposalRow
        {
            Id = Guid.CreateVersion7(time.GetUtcNow()).ToString(),
            Digest = digest,
            Author = user.UserName(),
            At = time.Milliseconds(),
            Files = JsonSerializer.Serialize(files),
            Base = current.Number,
        };
        await store.WriteAsync(
            async s =>
            {
                if ((await s.OpenProposalsAsync()).FirstOrDefault(p => p.Digest == digest) is { } same)
                    throw Problem.Conflict(
                        "proposed",
                        $"Exactly this rulebook was already proposed by {same.Author} and waits for a second person."
                    );
                await s.AddProposalAsync(proposal);
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        user.UserName(),
                        "rulebook.proposed",
                        null,
                        null,
                        ("proposal", proposal.Id),
                        ("digest", digest)
                    )
                );
                s.Tell("rulebook", proposal.Id);
                foreach (
                    var other in (await s.UsersAsync()).Where(u =>
                        u.Active == 1 && u.Mail.Length > 0 && u.Name != user.UserName() && u.Roles.Split(' ').Contains(Roles.Engineer)
                    )
                )
                    s.Send(
                        new(
                            other.Mail,
                            "A rulebook waits for a second person",
                            $"Dear {other.Display},\n\n{user.UserName()} proposes a new edition of the rulebook. Look at the "
                                + "difference and the rehearsal, then agree or decline, in the console under Rulebook.\n",
                            null
                        )
                    );
            },
            cancel
        );
        return new(null, View(proposal, user), []);
    }

    /// <summary>True when the rulebook wants a second person; nobody takes that away alone, neither for editions nor for users.</summary>
    private async Task<bool> NeedsSecondAsync(
        Core.Rulebook.Rulebook current,
        Core.Rulebook.Rulebook next,
        ClaimsPrincipal user,
        CancellationToken cancel
    ) =>
        current.PublishingNeedsSecond
        || (
            current.UsersNeedSecond
            && !next.UsersNeedSecond
            && await store.ReadAsync(s => SecondPerson.OfEngineersAsync(s, user.UserName()), cancel)
        );

    public static List<RulebookFile> Files(ProposalRow proposal) => JsonSerializer.Deserialize<List<RulebookFile>>(proposal.Files) ?? [];

    public async Task<Published> DecideAsync(string id, bool approve, string remark, ClaimsPrincipal user, CancellationToken cancel)
    {
        var proposal = await store.ReadAsync(
            async s =>
            {
                var open = await s.ProposalAsync(id) is { State: "open" } found
                    ? found
                    : throw Problem.NotFound($"open proposal '{id}'", "See 'oikonom rulebook proposals'.");
                if (approve)
                    await SecondPerson.RequireAsync(
                        s,
                        open.Author,
                        user,
                        "own-proposal",
                        "You proposed this edition yourself; somebody else agrees to it."
                    );
                return open;
            },
            cancel
        );
        if (!approve)
        {
            if (string.IsNullOrWhiteSpace(remark))
                throw Problem.Invalid("Say why: a decline needs a remark.", "remark");
            await store.WriteAsync(
                async s =>
                {
                    await s.DecideProposalAsync(id, "declined", user.UserName(), time.Milliseconds(), remark);
                    s.Record(
                        LedgerEntry.Of(
                            time.GetUtcNow(),
                            user.UserName(),
                            "rulebook.declined",
                            null,
                            null,
                            ("proposal", id),
                            ("digest", proposal.Digest),
                            ("remark", remark)
                        )
                    );
                    s.Tell("rulebook", id);
                },
                cancel
            );
            return new(null, View((await store.ReadAsync(s => s.ProposalAsync(id), cancel))!, user), []);
        }
        var files = Files(proposal);
        var reading = RulebookReader.Read(files);
        return await CommitAsync(
            files,
            reading.Rulebook ?? throw RulebookFiles.Unsound(reading),
            proposal.Digest,
            proposal.Author,
            user.UserName(),
            proposal,
            cancel
        );
    }

    /// <summary>Makes the edition, and sends the open requests it changes back to planning, all in one decision.</summary>
    private async Task<Published> CommitAsync(
        IReadOnlyList<RulebookFile> files,
        Core.Rulebook.Rulebook rulebook,
        string digest,
        string author,
        string approver,
        ProposalRow? proposal,
        CancellationToken cancel
    )
    {
        var current = await editions.CurrentOrNullAsync(cancel);
        var looked = time.Milliseconds();
        var changed = current is null ? [] : await rehearsals.OpenRequestsAsync(current, new(0, digest, rulebook), cancel);
        // What it would do to everybody, by the edition each is on: nobody is moved by publishing, and all of them are listed.
        var report = current is null
            ? null
            : await rehearsals.LookAsync(current.Rulebook, rulebook, [], cancel, await rehearsals.OthersAsync(cancel));
        RolloutRow? rollout = null;
        var row = await store.WriteAsync(
            async s =>
            {
                var last = await s.LastEditionAsync();
                RequireStillSo(last, current, digest, proposal);
                var edition = new EditionRow
                {
                    Number = (last?.Number ?? 0) + 1,
                    Digest = digest,
                    Author = author,
                    Approver = approver,
                    PublishedAt = time.Milliseconds(),
                    Files = JsonSerializer.Serialize(files),
                };
                await s.AddEditionAsync(edition);
                await s.LookAtHandMadeAgainAsync(time.Milliseconds());
                foreach (var target in BroughtBy(rulebook, current))
                    await TargetDesk.BeginsPausedAsync(s, target, time.GetUtcNow());
                if (proposal is not null)
                    await s.DecideProposalAsync(proposal.Id, "published", approver, time.Milliseconds(), "");
                Record(s, edition, changed.Count);
                s.Tell("rulebook", edition.Number.ToString(CultureInfo.InvariantCulture));
                await ReplanAsync(s, changed, edition.Number);
                if (report is not null)
                    rollout = await rollouts.MakeAsync(s, new((int)edition.Number, digest, rulebook), current!, report, author, approver);
                return edition;
            },
            cancel
        );
        await secrets.BindAsync(rulebook, author, cancel);
        editions.Forget();
        await connectors.ResetAsync();
        // What came to wait for people while the edition was being made is looked at once more.
        if (
            current is not null
            && await rehearsals.OpenRequestsAsync(current, new((int)row.Number, digest, rulebook), cancel, looked)
                is { Count: > 0 } meanwhile
        )
            await store.WriteAsync(s => ReplanAsync(s, meanwhile, row.Number), cancel);
        return new(Detail(row, rulebook), null, changed, rollout is null ? null : View(rollout))
        {
            NewTargets = [.. BroughtBy(rulebook, current).Select(t => t.Name)],
        };
    }

    /// <summary>Targets that an edition brings to those there were; the first edition is set up with all of its own.</summary>
    private static IEnumerable<TargetRule> BroughtBy(Core.Rulebook.Rulebook rulebook, Edition? current) =>
        current is null ? [] : rulebook.Targets.Values.Where(t => t.HasAccounts && !current.Rulebook.Targets.ContainsKey(t.Name));

    private static PublishedRollout View(RolloutRow made) =>
        new(made.Id, made.Number, made.People, made.Losing, made.Same, made.Failing, made.Brake.Length > 0);

    /// <summary>What was looked at is still the newest; anything else is a conflict.</summary>
    /// <exception cref="Problem">409: it is published already, or another was meanwhile.</exception>
    private static void RequireStillSo(EditionRow? last, Edition? current, string digest, ProposalRow? proposal)
    {
        if (last?.Digest == digest)
            throw Problem.Conflict("unchanged", $"Edition {last.Number} already is exactly this rulebook.");
        if (proposal?.Base > 0 && last?.Number != proposal.Base)
            throw Problem.Conflict(
                "published-meanwhile",
                $"It was proposed over edition {proposal.Base}, and edition {last?.Number} was published since: it "
                    + $"would take that back. Decline it, and have it proposed anew over edition {last?.Number}."
            );
        if ((last?.Number ?? 0) != (current?.Number ?? 0))
            throw Problem.Conflict(
                "published-meanwhile",
                $"Edition {last!.Number} was published in the meantime. Look at the difference again."
            );
    }

    private void Record(Session s, EditionRow edition, int replanned) =>
        s.Record(
            LedgerEntry.Of(
                time.GetUtcNow(),
                edition.Author,
                "rulebook.published",
                null,
                null,
                ("edition", edition.Number),
                ("digest", edition.Digest),
                ("approver", edition.Approver.Length > 0 ? edition.Approver : null),
                ("replanned", replanned)
            )
        );

    private async Task ReplanAsync(Session s, IReadOnlyList<OpenRequestChange> changed, long edition)
    {
        foreach (var request in changed)
        {
            if (
                await s.RequestAsync(request.Id, forUpdate: true)
                    is not { State: RequestState.Deciding or RequestState.Asked or RequestState.Releasing } row
                || row.Edition == edition
            )
                continue;
            // What others decided by another way of approval counts no more.
            if (request.AnotherWay)
                row.Round++;
            await requests.ReplanAsync(
                s,
                row,
                $"edition {edition} of the rulebook was published{(request.AnotherWay ? ", and others decide by it" : "")}"
            );
        }
    }

    public static EditionDetail Detail(EditionRow row, Core.Rulebook.Rulebook rulebook) =>
        new()
        {
            Number = (int)row.Number,
            Digest = row.Digest,
            Author = row.Author,
            PublishedAt = row.PublishedAt.ToInstant(),
            Name = rulebook.Name,
            Title = rulebook.Title,
            Sources = [.. rulebook.Sources.Keys],
            Targets = [.. rulebook.Targets.Keys],
            Templates = [.. rulebook.Templates.Select(t => t.Name)],
            Workflows = [.. rulebook.Workflows.Select(w => w.Name)],
            Files = [.. EditionBook.Files(row).Select(f => new RulebookFileBody(f.Path, f.Text))],
            Approver = row.Approver,
            Pools = [.. rulebook.Pools.Keys],
            Separations = [.. rulebook.Separations.Select(x => x.Name)],
        };

    public static ProposalView View(ProposalRow row, ClaimsPrincipal user) =>
        new(
            row.Id,
            row.Digest,
            row.Author,
            row.At.ToInstant(),
            row.State,
            row.DecidedBy.Length > 0 ? row.DecidedBy : null,
            row.DecidedAt.ToInstant(),
            row.Remark,
            row.State == "open" && row.Author != user.UserName() && user.RoleNames().Contains(Roles.Engineer),
            (int)row.Base
        );
}
