from django.contrib import admin

from hauch.stores.models import Instrument, ReferenceSpecimen, ReferenceType, Rig

admin.site.register(Rig)
admin.site.register(Instrument)
admin.site.register(ReferenceType)
admin.site.register(ReferenceSpecimen)
