using System.Globalization;
using Oikonom.Core.Expressions;
using Oikonom.Core.People;

namespace Oikonom.Core.Rulebook;

/// <summary>A kind of warning: why it matters, and how to mend it.</summary>
public sealed record WarningKind(string Code, string Title, string Reason, string Mend);

/// <summary>What is allowed in a rulebook and yet deserves a second thought, each with a code.</summary>
public static class Warnings
{
    /// <summary>All kinds of warnings.</summary>
    public static readonly IReadOnlyList<WarningKind> Catalogue =
    [
        new(
            "password-never-expires",
            "A password that never expires",
            "A password that leaked once is good for ever.",
            "Leave the attribute out, or give the account an end."
        ),
        new(
            "password-kept",
            "A first password that need not be changed",
            "Whoever handed it over still knows it.",
            "Set 'change-at-first-use: yes'."
        ),
        new(
            "permanent-privileged-grant",
            "A privileged grant as long as the employment",
            "Powerful access that is always there is misused or stolen sooner or later.",
            "Give it an 'until', best a few days, and let people ask for it when they need it."
        ),
        new(
            "private-notification",
            "Notices to one private address",
            "Nobody reads them when that person is away or gone, and they leave the organisation.",
            "Use the mailbox of a role, in one of the 'mail-domains'."
        ),
        new(
            "never-holds",
            "A condition that can never hold",
            "What stands under it is never given.",
            "Mend the condition, or take the rule out."
        ),
        new("always-holds", "A condition that always holds", "It looks like a limit and is none.", "Take the condition out, or mend it."),
        new(
            "nobody-matches",
            "A template nobody matches",
            "It may be misspelt, or no longer be needed.",
            "Compare its condition with the values HR delivers, or take it out."
        ),
        new("no-owner", "An entitlement without an owner", "Nobody answers for who has it.", "Name the employee number of the owner."),
        new(
            "no-approver",
            "A stage that can have no approver",
            "Requests would wait for ever.",
            "Name a role that somebody has, or add 'otherwise'."
        ),
        new(
            "overlapping-pools",
            "Pools that overlap",
            "Two people could get the same number.",
            "Give each pool and site ranges of its own."
        ),
        new(
            "clear-text",
            "A connection in clear text",
            "Whoever listens reads names, and the key that opens the source.",
            "Use https:// or ldaps://."
        ),
        new(
            "never-given",
            "An entitlement no template gives",
            "It may have been forgotten.",
            "Give it in a template, or leave it to requests."
        ),
        new(
            "unknown-attribute",
            "An attribute the target does not have",
            "Each account would be refused, at the first joiner.",
            "Mend its name, or add the class that has it to 'classes'."
        ),
        new(
            "unknown-class",
            "An object class the target does not have",
            "Each account would be refused, at the first joiner.",
            "Mend its name."
        ),
        new(
            "not-compared",
            "A target that could not be compared",
            "It did not answer, so that nobody knows whether it has the attributes.",
            "Check the target, then check the rulebook again."
        ),
        new(
            "unknown-person",
            "An employee number nobody has",
            "Nobody answers for it, or decides.",
            "Mend the number, or name somebody who is known."
        ),
    ];

    /// <summary>What can only be told with the target at hand: attributes and classes that it does not have.</summary>
    /// <param name="schema">What the target knows; null when it did not answer, for the reason in <paramref name="problem"/>.</param>
    public static IEnumerable<Finding> WithSchema(Rulebook rulebook, TargetRule target, TargetSchema? schema, string problem)
    {
        if (schema is null)
        {
            yield return new(target.Place, $"'{target.Name}' could not be compared with the rulebook: {problem}", "not-compared");
            yield break;
        }
        foreach (var name in schema.UnknownClasses)
            yield return new(
                target.Place,
                $"'{target.Title}' has no object class '{name}'.{Nearest.Hint(name, schema.Classes)}",
                "unknown-class"
            );
        foreach (var match in target.Match.Select(m => TargetSchema.Bare(m.Attribute)).Where(a => !schema.Attributes.Contains(a)))
            yield return Unknown(match, target.Place);
        foreach (
            var attribute in rulebook
                .Templates.SelectMany(t => t.Accounts)
                .Where(a => a.Target == target.Name)
                .SelectMany(a => a.Attributes)
        )
            if (!schema.Attributes.Contains(TargetSchema.Bare(attribute.Name)))
                yield return Unknown(attribute.Name, attribute.Place);
            else if (!schema.Allowed.Contains(TargetSchema.Bare(attribute.Name)))
                yield return new(
                    attribute.Place,
                    $"An account in '{target.Title}' cannot have '{attribute.Name}': none of its object classes has it.",
                    "unknown-attribute"
                );

        Finding Unknown(string name, Place place) =>
            new(place, $"'{target.Title}' has no attribute '{name}'.{Nearest.Hint(name, [.. schema.Attributes])}", "unknown-attribute");
    }

    /// <summary>The employee numbers that a rulebook names, each with its place and what it is named for.</summary>
    public static IEnumerable<(string Number, Place Place, string As)> Numbers(Rulebook rulebook)
    {
        foreach (var target in rulebook.Targets.Values)
        {
            if (target.Owner.Length > 0)
                yield return (target.Owner, target.Place, $"the owner of {target.Name}");
            foreach (var entitlement in target.Entitlements.Values.Where(e => !string.IsNullOrEmpty(e.Owner)))
                yield return (entitlement.Owner!, entitlement.Place, $"the owner of {target.Name}/{entitlement.Name}");
        }
        foreach (var stage in rulebook.Workflows.SelectMany(w => w.Stages))
        foreach (var approver in stage.Decides.Concat(stage.Otherwise).Where(a => a.Relation == "person"))
            yield return (approver.Argument, stage.Place, $"who decides '{stage.Title}'");
    }

    /// <summary>What can only be told with the people at hand: numbers that nobody has.</summary>
    public static IEnumerable<Finding> WithNumbers(Rulebook rulebook, IReadOnlySet<string> unknown) =>
        Numbers(rulebook)
            .Where(n => unknown.Contains(n.Number))
            .Select(n => new Finding(n.Place, $"Nobody who is known has the number {n.Number}, {n.As}.", "unknown-person"));

    /// <summary>How a warning is mended; "" for an unknown code.</summary>
    public static string MendOf(string code) => Catalogue.FirstOrDefault(w => w.Code == code)?.Mend ?? "";

    /// <summary>All that can be told from the rulebook alone.</summary>
    public static IEnumerable<Finding> In(Rulebook rulebook)
    {
        var known = new Dictionary<string, IReadOnlyList<string>> { [BuiltIn.Site] = [.. rulebook.Sites.Keys] };
        return OfSources(rulebook).Concat(OfTargets(rulebook)).Concat(OfTemplates(rulebook, known)).Concat(OfPools(rulebook));
    }

    /// <summary>What can only be told with the people at hand: templates that apply to nobody.</summary>
    public static IEnumerable<Finding> WithPeople(Rulebook rulebook, IReadOnlyDictionary<string, int> peopleByTemplate) =>
        rulebook
            .Templates.Where(t => peopleByTemplate.GetValueOrDefault(t.Name) == 0 && t.When is not null)
            .Select(t => new Finding(t.WhenPlace, $"The template '{t.Name}' applies to nobody who is known.", "nobody-matches"));

    /// <summary>What can only be told with the users at hand: stages whose role nobody has.</summary>
    public static IEnumerable<Finding> WithRoles(Rulebook rulebook, IReadOnlySet<string> rolesHeld) =>
        from workflow in rulebook.Workflows
        from stage in workflow.Stages
        let last = stage.Otherwise[^1]
        where last.Relation == "role" && !rolesHeld.Contains(last.Argument)
        select new Finding(
            stage.Place,
            $"Nobody who can sign in has the role '{last.Argument}', so the stage '{stage.Title}' can have no approver.",
            "no-approver"
        );

    private static IEnumerable<Finding> OfSources(Rulebook rulebook)
    {
        foreach (var source in rulebook.Sources.Values)
        {
            if (source.Http is { Address.Scheme: "http" })
                yield return new(source.Place, $"'{source.Name}' is asked in clear text.", "clear-text");
            if (
                source.ReportsTo.Length > 0
                && rulebook.MailDomains.Count > 0
                && !rulebook.MailDomains.Any(d => source.ReportsTo.EndsWith("@" + d, StringComparison.OrdinalIgnoreCase))
            )
                yield return new(
                    source.Place,
                    $"'{source.Name}' reports to {source.ReportsTo}, which is outside {string.Join(", ", rulebook.MailDomains)}.",
                    "private-notification"
                );
            if (source.Scope is { } scope)
                foreach (
                    var finding in Judge(
                        scope,
                        source.Place,
                        rulebook.Attributes,
                        new Dictionary<string, IReadOnlyList<string>>(),
                        "The scope"
                    )
                )
                    yield return finding;
        }
    }

    private static IEnumerable<Finding> OfTargets(Rulebook rulebook)
    {
        var given = rulebook.Templates.SelectMany(t => t.Grants).Select(g => g.Key).ToHashSet();
        given.UnionWith(
            rulebook.Targets.Values.SelectMany(t =>
                t.Entitlements.Values.Where(e => e.IsLeast).Select(e => new EntitlementKey(t.Name, e.Name))
            )
        );
        given.UnionWith(given.SelectMany(rulebook.MirrorsOf).ToList());
        foreach (var target in rulebook.Targets.Values)
        {
            if (!target.Password.ChangeAtFirstUse)
                yield return new(target.Place, $"First passwords of '{target.Name}' need not be changed.", "password-kept");
            foreach (var entitlement in target.Entitlements.Values)
            {
                var isGiven = given.Contains(new(target.Name, entitlement.Name));
                // What was read from the target and is neither given nor asked for is nobody's matter here yet.
                if (entitlement.IsRead && !isGiven && !entitlement.IsRequestable)
                    continue;
                if (string.IsNullOrEmpty(entitlement.Owner))
                    yield return new(entitlement.Place, $"Nobody owns {target.Name}/{entitlement.Name}.", "no-owner");
                if (!isGiven && !entitlement.IsRead)
                    yield return new(entitlement.Place, $"No template gives {target.Name}/{entitlement.Name}.", "never-given");
            }
        }
    }

    private static IEnumerable<Finding> OfTemplates(Rulebook rulebook, IReadOnlyDictionary<string, IReadOnlyList<string>> known)
    {
        foreach (var template in rulebook.Templates)
        {
            if (template.When is { } when)
                foreach (var finding in Judge(when, template.WhenPlace, rulebook.Attributes, known, "The condition of the template"))
                    yield return finding;
            foreach (var grant in template.Grants)
            {
                if (grant.When is { } only)
                    foreach (var finding in Judge(only, grant.Place, rulebook.Attributes, known, $"The condition of {grant.Key}"))
                        yield return finding;
                // What is asked for has the end that was asked for.
                if (
                    grant.Until is null
                    && !template.IsOnRequest
                    && rulebook.Targets[grant.Target].Entitlements[grant.Entitlement].IsPrivileged
                )
                    yield return new(
                        grant.Place,
                        $"{grant.Key} is privileged and is given for the whole employment.",
                        "permanent-privileged-grant"
                    );
            }
            foreach (var attribute in template.Accounts.SelectMany(a => a.Attributes))
                if (NeverExpires(attribute))
                    yield return new(attribute.Place, $"'{attribute.Name}' makes a password that never expires.", "password-never-expires");
        }
    }

    private static bool NeverExpires(AttributeRule attribute)
    {
        if (attribute.Expression.References.Count > 0)
            return false;
        string text;
        try
        {
            text = attribute.Expression.Evaluate(new Scope(new NameSchema([]))).ToString();
        }
        catch (ExpressionFault)
        {
            // It fails for everybody; planning and rehearsal say so.
            return false;
        }
        if (!long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var number))
            return false;
        // userAccountControl: the bit DONT_EXPIRE_PASSWORD of the domain-controller dialect; shadowMax: RFC 2307.
        return attribute.Name.ToUpperInvariant() switch
        {
            "USERACCOUNTCONTROL" => (number & 0x10000) != 0,
            "SHADOWMAX" => number is < 0 or >= 99_999,
            _ => false,
        };
    }

    private static IEnumerable<Finding> OfPools(Rulebook rulebook)
    {
        var all = rulebook
            .Pools.Values.SelectMany(p => p.Ranges.SelectMany(r => r.Value.Select(range => (Pool: p, Site: r.Key, Range: range))))
            .ToList();
        for (var i = 0; i < all.Count; i++)
        for (var j = i + 1; j < all.Count; j++)
            if (
                all[i].Range.First <= all[j].Range.Last
                && all[j].Range.First <= all[i].Range.Last
                && all[i].Pool.Prefix == all[j].Pool.Prefix
            )
                yield return new(
                    all[j].Pool.Place,
                    $"{all[j].Range.First}-{all[j].Range.Last} ({all[j].Pool.Name}, {all[j].Site}) overlaps "
                        + $"{all[i].Range.First}-{all[i].Range.Last} ({all[i].Pool.Name}, {all[i].Site}).",
                    "overlapping-pools"
                );
    }

    private static IEnumerable<Finding> Judge(
        Expression condition,
        Place place,
        NameSchema schema,
        IReadOnlyDictionary<string, IReadOnlyList<string>> known,
        string what
    )
    {
        switch (Satisfiability.Of(condition, schema, known))
        {
            case Verdict.Never:
                yield return new(place, $"{what} can never hold: {condition.Text}", "never-holds");
                break;
            case Verdict.Always:
                yield return new(place, $"{what} always holds: {condition.Text}", "always-holds");
                break;
        }
    }
}
