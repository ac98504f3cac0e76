from django import forms

from hauch.entries.models import Entry, Version


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
        versions = Version.objects.filter(entry__round=round, entry__state=Entry.State.IN).select_related("entry")
        self.fields["version"].queryset = versions.order_by("entry__name", "number")
