using System.Globalization;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Service.Common;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Records;

/// <summary>
/// The inputs of one person as they lie beside each other: what the sources say of each employment, and what was
/// approved by hand. Neither is ever written over the other; what lists show is computed from both.
/// </summary>
/// <param name="Said">What the sources say; of a person made by hand, what the request said.</param>
public sealed record Inputs(IReadOnlyList<Facts> Said, IReadOnlyList<FieldInput> Fields, IReadOnlyList<Ending> Endings)
{
    public bool HasHandMade => Fields.Count > 0 || Endings.Count > 0;

    public static Inputs Of(PersonRow row, IEnumerable<ExtraRow> extras, Core.Rulebook.Rulebook rulebook)
    {
        var said =
            row.Said.Length > 0
                ? Facts.ListFromJson(row.Said, rulebook.Attributes)
                : [Facts.FromJson(row.Facts, rulebook.Attributes), .. Facts.ListFromJson(row.Others, rulebook.Attributes)];
        return new(said, FieldsOf(extras), EndingsOf(extras));
    }

    /// <summary>The attributes that were approved by hand.</summary>
    public static IReadOnlyList<FieldInput> FieldsOf(IEnumerable<ExtraRow> extras) =>
        [.. extras.Where(e => e.Kind == FieldKind).Select(FieldOf)];

    /// <summary>The ends that were approved by hand.</summary>
    public static IReadOnlyList<Ending> EndingsOf(IEnumerable<ExtraRow> extras) =>
        [.. extras.Where(e => e.Kind == EndKind).Select(EndingOf)];

    /// <summary>Each employment as it is shown at an instant, in the order of <see cref="Said"/>.</summary>
    public IReadOnlyList<Facts> Shown(Core.Rulebook.Rulebook rulebook, DateTimeOffset now) =>
        HasHandMade ? [.. Said.Select(e => Employments.Shown(e, Fields, Endings, rulebook, now))] : Said;

    /// <summary>The row of the person: what is shown now in its columns, and beside it what the sources say where it differs.</summary>
    public PersonRow Row(string id, string source, Core.Rulebook.Rulebook rulebook, DateTimeOffset now)
    {
        var shown = Shown(rulebook, now);
        var leading = LeadingOf(shown, rulebook, now);
        var others = shown.Where((_, i) => i != leading).ToList();
        var said = HasHandMade ? Facts.ListToJson(Said.Where((_, i) => i == leading).Concat(Said.Where((_, i) => i != leading))) : "";
        return RowOf(id, source, shown[leading], others, said, now.ToUnixTimeMilliseconds());
    }

    /// <summary>The place of the employment that leads today at its site.</summary>
    public static int LeadingOf(IReadOnlyList<Facts> shown, Core.Rulebook.Rulebook rulebook, DateTimeOffset now)
    {
        if (shown.Count == 1)
            return 0;
        var today = DateOnly.FromDateTime(TimeZoneInfo.ConvertTime(now, rulebook.ZoneOf(shown[^1].Site)).DateTime);
        var leading = Employments.Leading(shown, today);
        return shown.TakeWhile(e => !ReferenceEquals(e, leading)).Count();
    }

    /// <summary>A person whom nothing but these facts say.</summary>
    public static PersonRow RowOf(string id, string source, Facts facts, IReadOnlyList<Facts> others, string said, long at) =>
        new()
        {
            Id = id,
            PersonKey = facts.PersonKey,
            Number = facts.Number,
            Display = facts.DisplayName,
            SearchKey = $"{facts.Text(BuiltIn.Family)} {facts.Text(BuiltIn.Given)}".ToLowerInvariant(),
            Kind = facts.Text(BuiltIn.Kind),
            Department = facts.Text(BuiltIn.Department),
            Site = facts.Site,
            Title = facts.Text(BuiltIn.Title),
            Manager = facts.Manager,
            StartDay = facts.Text(BuiltIn.Start),
            EndDay = facts.End is null ? null : facts.Text(BuiltIn.End),
            Facts = facts.ToJson(),
            Others = others.Count == 0 ? "[]" : Facts.ListToJson(others),
            Said = said,
            Source = source,
            At = at,
        };

    /// <summary>What lists show of the person follows the inputs; what the sources say stays beside it.</summary>
    /// <param name="row">The person as shown so far.</param>
    /// <param name="details">More of the entry on the ledger, such as why.</param>
    /// <returns>The person as shown from now on.</returns>
    public async Task<PersonRow> ShowAsync(
        Session s,
        PersonRow row,
        Core.Rulebook.Rulebook rulebook,
        string actor,
        string? request,
        DateTimeOffset now,
        params (string Name, object? Value)[] details
    )
    {
        var shown = Row(row.Id, row.Source, rulebook, now);
        await s.UpsertPeopleAsync([shown]);
        var differences = Facts.FromJson(row.Facts, rulebook.Attributes).DifferenceTo(Facts.FromJson(shown.Facts, rulebook.Attributes));
        if (differences.Count == 0)
            return shown;
        s.Record(LedgerEntry.Of(now, actor, "person.changed", row.Id, request, [("changes", differences), .. details]));
        s.Tell("people", row.Id);
        return shown;
    }

    public const string FieldKind = "field";
    public const string EndKind = "end";

    /// <summary>The name an account is to have from when it was approved: its subject is the account.</summary>
    public const string NameKind = "name";

    private static FieldInput FieldOf(ExtraRow row) =>
        new(row.Employment, row.Subject, row.Value, row.FromAt.ToInstant(), row.UntilAt.ToInstant());

    private static Ending EndingOf(ExtraRow row) =>
        new(row.Employment, DateOnly.ParseExact(row.Value, "yyyy-MM-dd", CultureInfo.InvariantCulture), row.FromAt.ToInstant());
}
