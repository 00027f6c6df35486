using System.Text.Json.Serialization;
using Oikonom.Core.People;

namespace Oikonom.Core.Intake;

/// <summary>What happened to a person, in the trade's words.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<What>))]
public enum What
{
    [JsonStringEnumMemberName("nothing")]
    Nothing,

    [JsonStringEnumMemberName("joiner")]
    Joiner,

    [JsonStringEnumMemberName("return")]
    Return,

    [JsonStringEnumMemberName("second-employment")]
    SecondEmployment,

    [JsonStringEnumMemberName("mover")]
    Mover,

    [JsonStringEnumMemberName("kind-change")]
    KindChange,

    [JsonStringEnumMemberName("name-change")]
    NameChange,

    [JsonStringEnumMemberName("number-change")]
    NumberChange,

    [JsonStringEnumMemberName("correction")]
    Correction,

    [JsonStringEnumMemberName("postponed-start")]
    PostponedStart,

    [JsonStringEnumMemberName("earlier-start")]
    EarlierStart,

    [JsonStringEnumMemberName("withdrawn-hire")]
    WithdrawnHire,

    [JsonStringEnumMemberName("leaver")]
    Leaver,

    /// <summary>One of several employments ends, and the person works on in another.</summary>
    [JsonStringEnumMemberName("employment-ends")]
    EmploymentEnds,

    [JsonStringEnumMemberName("shortened-end")]
    ShortenedEnd,

    [JsonStringEnumMemberName("extended-end")]
    ExtendedEnd,

    [JsonStringEnumMemberName("late-news")]
    LateNews,
}

/// <summary>What happened, and the request that follows from it; none when there is nothing to do.</summary>
public readonly record struct Happening(What What, RequestKind? Raises)
{
    private const int TypingErrors = 2;
    private static readonly Happening Nothing = new(What.Nothing, null);

    /// <summary>Attributes in which a small difference can only be a typing error.</summary>
    private static readonly string[] Spelled = [BuiltIn.Given, BuiltIn.Family, BuiltIn.Title, "phone", "privateMail"];

    /// <summary>
    /// Decides from two versions of the record of one employment. Pure; the same record twice gives nothing.
    /// </summary>
    /// <param name="before">What was known of this employment, or null when it is new.</param>
    /// <param name="after">What the source says now, or null when it says nothing any more.</param>
    /// <param name="others">Other employments of the same person, as known.</param>
    /// <param name="today">The day at the person's site.</param>
    /// <param name="moves">The attributes whose change makes a mover; null means all of them.</param>
    public static Happening Between(Facts? before, Facts? after, IReadOnlyList<Facts> others, DateOnly today, IReadOnlySet<string>? moves)
    {
        if (before is null)
            return after is null ? Nothing : New(after, others, today);
        if (after is null)
            return Gone(before, others, today);
        var differences = before.DifferenceTo(after);
        if (differences.Count == 0)
            return Nothing;
        if (NeverWas(before))
            return New(after, others, today);
        if (NeverWas(after))
            return new(before.Start > today ? What.WithdrawnHire : What.Leaver, RequestKind.Leaver);
        var (wasOver, isOver) = (before.End < today, after.End < today);
        if (wasOver)
            return isOver ? new(What.LateNews, null) : new(What.Return, RequestKind.Joiner);
        if (isOver)
            return Gone(before, others, today);
        if (before.End != after.End && after.End is { } end && (before.End is null || end < before.End))
        {
            if (WorksOn(others, end))
                return new(What.EmploymentEnds, RequestKind.Mover);
            return new(before.End is null ? What.Leaver : What.ShortenedEnd, RequestKind.Leaver);
        }
        if (before.Start > today && before.Start != after.Start)
            return new(after.Start > before.Start ? What.PostponedStart : What.EarlierStart, RequestKind.Mover);
        if (before.Text(BuiltIn.Kind) != after.Text(BuiltIn.Kind))
            return new(What.KindChange, RequestKind.Mover);
        if (before.End != after.End)
            return new(What.ExtendedEnd, RequestKind.Mover);
        if (before.Number != after.Number)
            return new(What.NumberChange, RequestKind.Mover);
        if (differences.All(d => IsTypingError(d) || moves?.Contains(d.Name) == false))
            return new(What.Correction, RequestKind.Correction);
        return new(differences.All(d => d.Name is BuiltIn.Given or BuiltIn.Family) ? What.NameChange : What.Mover, RequestKind.Mover);
    }

    /// <summary>
    /// What happened, with other employments of the person that the same delivery tells of and that are not known yet: who
    /// goes on in one of them does not leave.
    /// </summary>
    public Happening With(IEnumerable<Facts> coming, Facts? after, DateOnly today) =>
        What is What.Leaver or What.ShortenedEnd && WorksOn([.. coming], after?.End ?? today)
            ? new(What.EmploymentEnds, RequestKind.Mover)
            : this;

    private static Happening New(Facts after, IReadOnlyList<Facts> others, DateOnly today)
    {
        if (after.End < today || NeverWas(after))
            return new(What.LateNews, null);
        if (others.Count == 0)
            return new(What.Joiner, RequestKind.Joiner);
        return others.All(o => o.End < today) ? new(What.Return, RequestKind.Joiner) : new(What.SecondEmployment, RequestKind.Mover);
    }

    /// <summary>True for an employment that was taken back before it began.</summary>
    private static bool NeverWas(Facts employment) => employment.End < employment.Start;

    /// <summary>True when another employment goes on after a last day, without a day between.</summary>
    private static bool WorksOn(IReadOnlyList<Facts> others, DateOnly last) =>
        others.Any(o => !NeverWas(o) && o.Start <= last.AddDays(1) && (o.End is null || o.End > last));

    private static Happening Gone(Facts before, IReadOnlyList<Facts> others, DateOnly today) =>
        before.End < today || NeverWas(before) ? Nothing
        : before.Start > today ? new(What.WithdrawnHire, RequestKind.Leaver)
        : WorksOn(others, today) ? new(What.EmploymentEnds, RequestKind.Mover)
        : new(What.Leaver, RequestKind.Leaver);

    /// <summary>
    /// The employment whose record was replaced: the same person and first day under another key, which the
    /// source no longer holds. Then the number changed, and nobody joined or left.
    /// </summary>
    public static bool IsSameEmployment(Facts vanished, Facts appeared) =>
        vanished.PersonKey == appeared.PersonKey && vanished.Start == appeared.Start;

    private static bool IsTypingError(AttributeDifference difference) =>
        Spelled.Contains(difference.Name)
        && difference.Before.Length >= 4
        && difference.After.Length >= 4
        && Distance(difference.Before, difference.After) <= TypingErrors;

    /// <summary>Letters to add, drop or change, up to one more than counts as a typing error.</summary>
    private static int Distance(string left, string right)
    {
        if (Math.Abs(left.Length - right.Length) > TypingErrors)
            return TypingErrors + 1;
        var row = Enumerable.Range(0, right.Length + 1).ToArray();
        for (var i = 1; i <= left.Length; i++)
        {
            var corner = row[0];
            row[0] = i;
            for (var j = 1; j <= right.Length; j++)
            {
                var above = row[j];
                row[j] = left[i - 1] == right[j - 1] ? corner : 1 + Math.Min(corner, Math.Min(above, row[j - 1]));
                corner = above;
            }
        }
        return row[^1];
    }
}
