namespace Oikonom.Core.People;

/// <summary>Identity of a person across all employments (UUID version 7).</summary>
public readonly record struct PersonId(Guid Value)
{
    public static PersonId New(DateTimeOffset at) => new(Guid.CreateVersion7(at));
    public static PersonId Parse(string text) => new(Guid.Parse(text));
    public override string ToString() => Value.ToString();
}

/// <summary>Identity of a request (UUID version 7).</summary>
public readonly record struct RequestId(Guid Value)
{
    public static RequestId New(DateTimeOffset at) => new(Guid.CreateVersion7(at));
    public static RequestId Parse(string text) => new(Guid.Parse(text));
    public override string ToString() => Value.ToString();
}

/// <summary>Identity of a step (UUID version 7).</summary>
public readonly record struct StepId(Guid Value)
{
    public static StepId New(DateTimeOffset at) => new(Guid.CreateVersion7(at));
    public static StepId Parse(string text) => new(Guid.Parse(text));
    public override string ToString() => Value.ToString();
}
