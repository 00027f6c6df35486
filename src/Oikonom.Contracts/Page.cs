namespace Oikonom.Contracts;

/// <summary>A page of a list; <paramref name="Next"/> is the cursor of the next one, absent on the last.</summary>
public sealed record Page<T>(IReadOnlyList<T> Items, string? Next);
