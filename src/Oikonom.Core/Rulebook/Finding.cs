namespace Oikonom.Core.Rulebook;

/// <summary>A place in a rulebook file; line and column count from 1.</summary>
public readonly record struct Place(string File, int Line, int Column)
{
    public override string ToString() => $"{File}:{Line}:{Column}";
}

/// <summary>Something wrong in a rulebook, where it is, and how to mend it. A warning has a code of <see cref="Warnings"/> and
/// does not hinder publishing.</summary>
public sealed record Finding(Place Place, string Message, string Code = "error")
{
    /// <summary>True when the rulebook can be published all the same.</summary>
    public bool IsWarning => Code != "error";

    /// <summary>True when the file could not be read at all, so that nothing it holds is known.</summary>
    public bool IsUnreadable { get; init; }

    public override string ToString() => IsWarning ? $"{Place}: warning {Code}: {Message}" : $"{Place}: {Message}";
}

/// <summary>One file of a rulebook: its path relative to the folder, with forward slashes, and its text.</summary>
public sealed record RulebookFile(string Path, string Text);
