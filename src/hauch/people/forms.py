from django import forms

from hauch.people.models import User


class UnitsForm(forms.ModelForm):
    class Meta:
        model = User
        fields = ["units"]
        widgets = {"units": forms.RadioSelect}
