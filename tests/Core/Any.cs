using CsCheck;

namespace Oikonom.Core.Tests;

internal static class Any
{
    public static Gen<T> Of<T>(params T[] items) => Gen.Int[0, items.Length - 1].Select(i => items[i]);
}
