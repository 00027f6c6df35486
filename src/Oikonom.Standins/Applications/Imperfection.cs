namespace Oikonom.Standins.Applications;

/// <summary>What servers of the protocol get wrong, each of which an application can be made to do.</summary>
public static class Imperfection
{
    /// <summary>It says that it takes PATCH, and refuses it.</summary>
    public const string PatchRefused = "patch-refused";

    /// <summary>It says that it takes no PATCH.</summary>
    public const string NoPatch = "no-patch";

    /// <summary>It answers a PATCH with 204 and nothing.</summary>
    public const string SilentPatch = "silent-patch";

    /// <summary>It answers a filter with everybody.</summary>
    public const string IgnoresFilters = "ignores-filters";

    /// <summary>It writes true and false as texts.</summary>
    public const string TruthsAsTexts = "truths-as-texts";

    /// <summary>It tells names of users apart by case when it looks for them.</summary>
    public const string CaseMatters = "case-matters";

    /// <summary>It takes what identifies a user to the client, and forgets it.</summary>
    public const string LosesExternalIds = "loses-external-ids";

    /// <summary>It knows no versions.</summary>
    public const string NoVersions = "no-versions";

    /// <summary>Somebody comes and goes between one page and the next.</summary>
    public const string PagesMove = "pages-move";

    /// <summary>It refuses two calls of three with 429 and says how long to wait.</summary>
    public const string Busy = "busy";

    /// <summary>It answers with a page for people.</summary>
    public const string AnswersHtml = "answers-html";

    /// <summary>It answers with the first half of what it would say.</summary>
    public const string HalfAnswers = "half-answers";

    /// <summary>It answers one user with ten megabytes.</summary>
    public const string HugeAnswers = "huge-answers";

    /// <summary>Its users do not show their groups.</summary>
    public const string HidesGroups = "hides-groups";

    /// <summary>It has no address for its schemas.</summary>
    public const string NoSchemas = "no-schemas";

    /// <summary>It takes no bulk requests, and says so.</summary>
    public const string NoBulk = "no-bulk";

    /// <summary>It says that it takes bulk requests, and refuses them.</summary>
    public const string BulkRefused = "bulk-refused";

    /// <summary>It answers a bulk request with no more than each status, and where what it made is.</summary>
    public const string SilentBulk = "silent-bulk";

    /// <summary>It answers a bulk request without its last operation, which it did all the same.</summary>
    public const string HalfBulk = "half-bulk";

    /// <summary>It does not show when something was made or changed.</summary>
    public const string HidesTimes = "hides-times";

    /// <summary>It answers nobody but with 503.</summary>
    public const string Down = "down";

    /// <summary>All of them.</summary>
    public static readonly IReadOnlyList<string> All =
    [
        PatchRefused,
        NoPatch,
        SilentPatch,
        IgnoresFilters,
        TruthsAsTexts,
        CaseMatters,
        LosesExternalIds,
        NoVersions,
        PagesMove,
        Busy,
        AnswersHtml,
        HalfAnswers,
        HugeAnswers,
        HidesGroups,
        NoSchemas,
        NoBulk,
        BulkRefused,
        SilentBulk,
        HalfBulk,
        HidesTimes,
        Down,
    ];
}
