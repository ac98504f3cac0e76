from django import forms

from hauch.entries.models import Entry, Version

MOST_CHOICES = 100
"""Rounds with more versions ask for the entry's name instead of offering a list."""


class VersionChoice(forms.ModelChoiceField):
    def label_from_instance(self, version):
        return f"{version.entry.name}, version {version.number}"


class SpecimenForm(forms.Form):
    version = VersionChoice(Version.objects.none(), label="Printed of")
    code = forms.CharField(max_length=20, label="Code on the part")
    material = forms.CharField(max_length=40, required=False)
    mass_g = forms.FloatField(required=False, label="Mass, g", min_value=0.001, max_value=99_999)

    def __init__(self, *args, round, **kwargs):
        super().__init__(*args, **kwargs)
        self.round = round
        if Version.objects.filter(entry__round=round).count() > MOST_CHOICES:
            self.fields["version"] = forms.CharField(max_length=60, label="Printed of: name of the entry")
            return
        versions = Version.objects.filter(entry__round=round, entry__state=Entry.State.IN).select_related("entry")
        self.fields["version"].queryset = versions.order_by("entry__name", "number")

    def clean_version(self):
        """The chosen version, or the newest one of a typed entry."""
        version = self.cleaned_data["version"]
        if isinstance(version, Version):
            return version
        entries = Version.objects.filter(entry__round=self.round, entry__state=Entry.State.IN, entry__name__iexact=version.strip())
        newest = entries.select_related("entry").order_by("-number").first()
        if newest is None:
            raise forms.ValidationError(f"No entry of this round is named “{version}”.")
        return newest
