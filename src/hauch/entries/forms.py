from django import forms


class EntryForm(forms.Form):
    name = forms.CharField(max_length=60, label="Name")
    designer_name = forms.CharField(max_length=60, required=False, label="Designer", help_text="Empty: you.")
    story = forms.CharField(widget=forms.Textarea(attrs={"rows": 3}), required=False, max_length=4000, label="Why should it work?")
