[assembly: System.Runtime.CompilerServices.InternalsVisibleTo("Oikonom.Ldap.Tests")]
[assembly: System.Runtime.CompilerServices.InternalsVisibleTo("Oikonom.Fuzz.Tests")]
