using System.Text.Json.Serialization;
using Oikonom.Core.Planning;

namespace Oikonom.Core.Fulfilment;

/// <summary>How an entry of a target stands to what was decided.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<EntryClass>))]
public enum EntryClass
{
    /// <summary>It is as it was left.</summary>
    [JsonStringEnumMemberName("as-decided")]
    AsDecided,

    /// <summary>Attributes have other values than they were given.</summary>
    [JsonStringEnumMemberName("drift")]
    Drift,

    /// <summary>It holds what nobody gave.</summary>
    [JsonStringEnumMemberName("surplus")]
    Surplus,

    /// <summary>What it was given was taken from it.</summary>
    [JsonStringEnumMemberName("missing")]
    Missing,

    /// <summary>It may be used and should not.</summary>
    [JsonStringEnumMemberName("enabled-outside")]
    EnabledOutside,

    /// <summary>It should be usable and is not.</summary>
    [JsonStringEnumMemberName("disabled-outside")]
    DisabledOutside,

    /// <summary>It is recorded, and is no more.</summary>
    [JsonStringEnumMemberName("deleted")]
    Deleted,

    /// <summary>It was deleted, and another one has its name.</summary>
    [JsonStringEnumMemberName("made-again")]
    MadeAgain,

    /// <summary>It answers to somebody who has left.</summary>
    [JsonStringEnumMemberName("orphan")]
    Orphan,

    /// <summary>It answers to somebody who has another account.</summary>
    [JsonStringEnumMemberName("duplicate")]
    Duplicate,

    /// <summary>It answers to somebody who has none: their next plan takes it over.</summary>
    [JsonStringEnumMemberName("unclaimed")]
    Unclaimed,

    /// <summary>It answers to nobody.</summary>
    [JsonStringEnumMemberName("unmatched")]
    Unmatched,

    /// <summary>People said what it is: a program's, or shared.</summary>
    [JsonStringEnumMemberName("known")]
    Known,
}

/// <summary>Tells the class of what differs; the gravest counts.</summary>
public static class Reconciling
{
    /// <summary>The class of differences: that somebody may use what they should not comes before all else.</summary>
    public static EntryClass Of(IReadOnlyList<Difference> differences) =>
        differences switch
        {
            [] => EntryClass.AsDecided,
            _ when differences.Any(d => d is Difference.Gone) => EntryClass.Deleted,
            _ when differences.Any(d => d is Difference.OtherPresence { IsEnabled: true }) => EntryClass.EnabledOutside,
            _ when differences.Any(d => d is Difference.Surplus) => EntryClass.Surplus,
            _ when differences.Any(d => d is Difference.OtherPresence) => EntryClass.DisabledOutside,
            _ when differences.Any(d => d is Difference.Missing) => EntryClass.Missing,
            _ => EntryClass.Drift,
        };

    /// <summary>The class of an entry that is recorded for nobody.</summary>
    /// <param name="hasLeft">Whether whom it answers to has left; null when it answers to nobody.</param>
    /// <param name="hasAnother">Whether they have another account in the target.</param>
    public static EntryClass OfStranger(bool? hasLeft, bool hasAnother) =>
        hasLeft switch
        {
            null => EntryClass.Unmatched,
            true => EntryClass.Orphan,
            _ => hasAnother ? EntryClass.Duplicate : EntryClass.Unclaimed,
        };
}
