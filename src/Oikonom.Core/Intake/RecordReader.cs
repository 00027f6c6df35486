using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Intake;

/// <summary>What is wrong with a row: the column it stands in (or "" for the whole row), the value and the reason.</summary>
public sealed record RowFault(string Column, string Value, string Reason);

/// <summary>A row turned into facts, or the reason why it was set aside.</summary>
public readonly record struct RowReading(Facts? Facts, RowFault? Fault)
{
    /// <summary>The record is sound and outside the scope of the source.</summary>
    public bool Outside { get; init; }

    /// <summary>
    /// The last day lies before a first day that is yet to come: of somebody who is known, the hire was withdrawn; of a
    /// stranger it is a fault.
    /// </summary>
    public bool IsWithdrawn { get; init; }
}

/// <summary>Maps the columns of a row to attributes. One reader serves one thread.</summary>
/// <param name="today">With it, hires that were withdrawn before their first day are told from faults.</param>
/// <param name="on">The day from which on days are held to be plausible or not; <paramref name="today"/> when it is not given.</param>
public sealed class RecordReader(SourceRule source, Rulebook.Rulebook rulebook, DateOnly? today = null, DateOnly? on = null)
{
    private const int MaxValue = 1024;
    private readonly Scope _scope = new(source.Columns);
    private readonly Scope _facts = new(rulebook.Attributes);
    private readonly FactNames _names = rulebook.Attributes.Facts;
    private readonly int[] _places = [.. source.Mapping.Select(m => rulebook.Attributes.Facts.IndexOf(m.Name))];
    private readonly int[] _slots = [.. source.ColumnNames.Select(name => source.Columns.IndexOf("row." + name))];

    /// <param name="texts">The texts of the declared columns, in their order.</param>
    public RowReading Read(IReadOnlyList<string> texts)
    {
        for (var i = 0; i < source.ColumnNames.Count; i++)
        {
            var name = source.ColumnNames[i];
            var text = texts[i];
            if (Refuse(text) is { } reason)
                return new(null, new(name, Shorten(text), reason));
            _scope[_slots[i]] = Value.Of(text.Trim());
        }
        var values = new Value[_names.Count];
        for (var i = 0; i < _places.Length; i++)
        {
            var attribute = source.Mapping[i];
            try
            {
                values[_places[i]] = attribute.Expression.Evaluate(_scope);
            }
            catch (ExpressionFault fault)
            {
                return new(null, Fault(attribute, fault.Message));
            }
        }
        var facts = Facts.Of(_names, values);
        if (source.Scope is { } scope)
        {
            facts.Fill(_facts, rulebook.Attributes);
            try
            {
                if (!scope.Holds(_facts))
                    return new(facts, null) { Outside = true };
            }
            catch (ExpressionFault fault)
            {
                return new(null, new("", "", $"The scope of the source cannot be decided: {fault.Message}"));
            }
        }
        return Judge(facts);
    }

    /// <summary>Takes facts, or says what speaks against them.</summary>
    private RowReading Judge(Facts facts)
    {
        foreach (var name in rulebook.Mandatory)
            if (facts[name].IsNull)
                return new(null, Fault(source.Mapping.First(m => m.Name == name), $"'{name}' is mandatory and empty."));
        if (!rulebook.Sites.ContainsKey(facts.Text(BuiltIn.Site)))
            return new(
                null,
                Fault(
                    source.Mapping.First(m => m.Name == BuiltIn.Site),
                    $"'{Shorten(facts.Text(BuiltIn.Site))}' is no site of the "
                        + $"rulebook.{Nearest.Hint(facts.Text(BuiltIn.Site), rulebook.Sites.Keys)}"
                )
            );
        if ((on ?? today) is { } day && Implausible(facts, day) is { } doubt)
            return new(null, doubt);
        if (facts.End < facts.Start)
            return new(
                facts.Start > today ? facts : null,
                Fault(
                    source.Mapping.First(m => m.Name == BuiltIn.End),
                    $"The end {facts.Text(BuiltIn.End)} lies before the start {facts.Text(BuiltIn.Start)}."
                )
            )
            {
                IsWithdrawn = facts.Start > today,
            };
        return new(facts, null);
    }

    /// <summary>What nobody means: a line break in a name, a first day long before anybody's, a day decades ahead.</summary>
    private RowFault? Implausible(Facts facts, DateOnly day)
    {
        var rule = source.Plausible;
        foreach (var name in OfOneLine)
            if (facts.Text(name).AsSpan().IndexOfAny('\n', '\r', '\t') >= 0)
                return Doubt(name, $"'{name}' holds a line break or a tab.");
        if (facts.Start < day.AddYears(-rule.OldestStart))
            return Doubt(BuiltIn.Start, $"The first day {facts.Text(BuiltIn.Start)} lies more than {rule.OldestStart} years back.");
        if (facts.Start > day.AddYears(rule.FurthestStart))
            return Doubt(BuiltIn.Start, $"The first day {facts.Text(BuiltIn.Start)} lies more than {rule.FurthestStart} years ahead.");
        if (facts.End > day.AddYears(rule.FurthestEnd))
            return Doubt(BuiltIn.End, $"The last day {facts.Text(BuiltIn.End)} lies more than {rule.FurthestEnd} years ahead.");
        return null;

        RowFault Doubt(string name, string reason) => Fault(source.Mapping.First(m => m.Name == name), reason);
    }

    /// <summary>Attributes that stand in one line wherever people read them.</summary>
    private static readonly string[] OfOneLine =
    [
        BuiltIn.Person,
        BuiltIn.Number,
        BuiltIn.Given,
        BuiltIn.Family,
        BuiltIn.Department,
        BuiltIn.Title,
        BuiltIn.Manager,
    ];

    private RowFault Fault(MappedAttribute attribute, string reason)
    {
        var column = attribute.Expression.References.FirstOrDefault()?["row.".Length..] ?? "";
        return new(column, column.Length == 0 ? "" : Shorten(_scope[source.Columns.IndexOf("row." + column)].AsString), reason);
    }

    /// <summary>Why a value is not taken from outside, or null.</summary>
    public static string? Refuse(string text)
    {
        if (text.Length > MaxValue)
            return $"The value has {text.Length} characters; {MaxValue} are the most.";
        foreach (var c in text)
        {
            if (c == '\uFFFD')
                return "The value holds bytes that are not in the declared encoding.";
            if (char.IsControl(c) && c is not ('\t' or '\n' or '\r'))
                return $"The value holds the control character U+{(int)c:X4}.";
            if (c is >= '\u202A' and <= '\u202E' or >= '\u2066' and <= '\u2069')
                return $"The value holds the direction mark U+{(int)c:X4}, which can disguise a name.";
        }
        return null;
    }

    private static string Shorten(string text) => text.Length <= 80 ? text : text[..80] + "…";
}
