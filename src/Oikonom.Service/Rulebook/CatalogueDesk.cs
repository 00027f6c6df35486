using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Rulebook;

/// <summary>
/// Reads what a target can give, tells what the rulebook does not know of it, and publishes that as the rulebook's next edition: as
/// any other edition it is checked, rehearsed, and agreed to by a second person where that is wished.
/// </summary>
public sealed class CatalogueDesk(Store.Store store, EditionBook editions, ConnectorBook connectors, PublishDesk publishing)
{
    private const int MostShown = 500;

    /// <summary>What was read, with what is to be published of it.</summary>
    private sealed record Look(TargetCatalogue View, IReadOnlyList<RulebookFile> Rulebook);

    /// <summary>Reads the target; nothing is changed.</summary>
    /// <exception cref="Problem">404: no such target. 409: the rulebook does not say how it is read, or it does not answer.</exception>
    public async Task<TargetCatalogue> ReadAsync(string name, CancellationToken cancel) => (await LookAsync(name, cancel)).View;

    /// <summary>Publishes what was read as the next edition, or proposes it.</summary>
    /// <param name="digest">Of what was looked at.</param>
    /// <exception cref="Problem">409: the target tells something else by now. 422: the rulebook uses what is gone.</exception>
    public async Task<Published> PublishAsync(string name, string? digest, ClaimsPrincipal user, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(digest))
            throw Problem.Invalid("Give the digest of the catalogue that you looked at.", "digest");
        var look = await LookAsync(name, cancel);
        if (look.View.Digest != digest)
            throw Problem.Conflict("changed-meanwhile", "The target tells something else than you looked at. Look at it again.");
        return await publishing.PublishAsync(look.Rulebook, user, cancel);
    }

    private async Task<Look> LookAsync(string name, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        if (edition.Rulebook.Targets.GetValueOrDefault(name) is not { } target)
            throw Problem.NotFound($"target '{name}'", "See 'oikonom targets list'.");
        if (target.Catalogue is not { } rule)
            throw Problem.Conflict(
                "no-catalogue",
                $"The rulebook does not say how it is read what {target.Title} can give. Add 'catalogue' to {target.Place.File}."
            );
        IReadOnlyList<OfferedEntitlement> read;
        try
        {
            read = await ((ICatalogueConnector)connectors.For(edition, name)).CatalogueAsync(rule, cancel);
        }
        catch (TargetFault fault)
        {
            throw Problem.Conflict("target-away", fault.Message);
        }
        var owners = read.Select(e => e.Owner).Where(o => o.Length > 0).Distinct(StringComparer.Ordinal).ToList();
        var (people, holders, row) = await store.ReadAsync(
            async s =>
            {
                var people = new Dictionary<string, string>(StringComparer.Ordinal);
                foreach (var owner in owners)
                    if (await s.PersonByNumberAsync(owner) is { } person)
                        people[owner] = person.Display;
                return (
                    people,
                    (await s.HoldersAsync()).Where(h => h.Target == name).ToDictionary(h => h.Entitlement, h => (int)h.Count),
                    await s.EditionAsync(edition.Number)
                );
            },
            cancel
        );
        var found = CatalogueFiles.Compare(target, [.. read.Select(e => people.ContainsKey(e.Owner) ? e : e with { Owner = "" })]);
        var files = EditionBook.Files(row!);
        var had = files.Where(f => CatalogueFiles.IsOf(f.Path, name)).ToList();
        var digest = RulebookReader.Digest(found.Files);
        CatalogueItem Item(Entitlement e, Entitlement? before = null) =>
            new(
                e.Name,
                e.Title,
                e.Kind.ToString().ToLowerInvariant(),
                e.Description,
                e.Owner,
                before is null ? null : Said(before),
                [.. Uses(edition.Rulebook, name, e.Name)],
                holders.GetValueOrDefault(e.Name)
            )
            {
                OwnerName = e.Owner is { } owner ? people.GetValueOrDefault(owner) : null,
            };
        return new(
            new(
                name,
                edition.Number,
                read.Count,
                digest,
                digest != RulebookReader.Digest(had),
                new(found.New.Count, [.. found.New.Take(MostShown).Select(e => Item(e))]),
                new(found.Changed.Count, [.. found.Changed.Take(MostShown).Select(c => Item(c.After, c.Before))]),
                new(found.Gone.Count, [.. found.Gone.Take(MostShown).Select(e => Item(e))]),
                [.. found.Files.Select(f => new RulebookFileBody(f.Path, f.Text))],
                [.. owners.Where(o => !people.ContainsKey(o)).Order(StringComparer.Ordinal)]
            ),
            [.. files.Except(had), .. found.Files]
        );
    }

    private static string Said(Entitlement before) =>
        string.Join(", ", new[] { before.Title, before.Description, before.Owner ?? "" }.Where(x => x.Length > 0));

    /// <summary>Where the rulebook speaks of something that is given.</summary>
    private static IEnumerable<string> Uses(Core.Rulebook.Rulebook rulebook, string target, string name)
    {
        foreach (var template in rulebook.Templates)
        foreach (var grant in template.Grants.Where(g => g.Target == target && g.Entitlement == name))
            yield return $"{template.Title} ({grant.Place.File}:{grant.Place.Line})";
        foreach (var rule in rulebook.Separations)
            if (rule.One.Concat(rule.Other).Any(k => k.Target == target && k.Name == name))
                yield return $"{rule.Title} ({rule.Place.File}:{rule.Place.Line})";
    }
}

public static class CatalogueEndpoints
{
    public static void MapCatalogues(this RouteGroupBuilder api)
    {
        api.MapPost(
                "/targets/{name}/catalogue",
                (string name, CatalogueDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    user.RequireTargets([name], Roles.Operator, Roles.Engineer);
                    return desk.ReadAsync(name, cancel);
                }
            )
            .WithName("readCatalogue")
            .WithSummary("Reads what the target can give, beside what the rulebook knows of it. Nothing is changed.")
            .RequireAuthorization("targets")
            .Reaching(Reached.Shared);

        api.MapPost(
                "/targets/{name}/catalogue/publish",
                (string name, CataloguePublishing body, CatalogueDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.PublishAsync(name, body.Digest, user, cancel)
            )
            .WithName("publishCatalogue")
            .WithSummary("Publishes what the target can give as the next edition, or proposes it where a second person agrees first.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }
}
